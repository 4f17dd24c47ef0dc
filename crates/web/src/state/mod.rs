//! What handlers share: the database, how Ebrel was started and is reached, and what keeps many clients from taking all of it.

pub mod broker;
pub mod data_dir;
mod disk;
pub mod doors;
pub mod live;
pub(crate) mod peers;
pub(crate) mod places;
pub(crate) mod secrets;
pub(crate) mod throttle;
pub mod work;

use actix_web::cookie::Key;
use broker::BrokerState;
use disk::Disk;
use doors::Doors;
use ebrel_app::findings::StationPicture;
use ebrel_app::network::NodeHealth;
use ebrel_app::receiving::Intake;
use ebrel_app::stamped::{Stamped, WindowCache};
use ebrel_app::standing::Arrived;
use ebrel_app::training::Exercises;
use ebrel_core::units::UnixSeconds;
use ebrel_store::Store;
use ebrel_store::studies::Study;
use live::Live;
use peers::UnderWay;
use places::Places;
use sha2::{Digest, Sha256};
use std::num::NonZeroUsize;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};
use std::time::SystemTime;
use throttle::Throttle;
use tokio::sync::{Notify, watch};
use work::Work;

/// Stations whose pictures are held: those of some large studies.
const GLANCES: NonZeroUsize = NonZeroUsize::new(128).expect("128 is not 0");

/// How Ebrel was started.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Mode {
    /// Demo data on loopback; nobody signs in.
    Demo,
    /// Real data; an owner signs in. `https`: the page is reached over HTTPS, so cookies may insist on it.
    Serve {
        /// Whether Ebrel itself or a proxy before it speaks HTTPS.
        https: bool,
    },
}

/// The largest file that can be uploaded, bytes.
pub const UPLOAD_LIMIT: usize = 200 * 1024 * 1024;

/// What handlers share.
pub struct State {
    /// The database with all that is kept.
    pub store: Store,
    /// The directory of database, uploaded files and session key.
    pub data: PathBuf,
    /// How Ebrel was started.
    pub mode: Mode,
    /// By which names and through whom Ebrel is reached.
    pub doors: Doors,
    /// Slows down guessing of passwords.
    pub throttle: Throttle,
    /// The code that the first account needs; printed at the terminal, of no use once there is an account.
    pub first_code: String,
    /// Places for hashing passwords: each takes 19 MB.
    pub hashing: Places,
    /// Places for reading whole files and building whole exports.
    pub heavy: Places,
    /// Requests of each peer that are under way before it signed in.
    pub under_way: UnderWay,
    /// Windows that were thinned lately.
    pub windows: WindowCache,
    /// Stations at a glance, by number and day, that were drawn together lately.
    pub glances: Stamped<(i64, i64), StationPicture>,
    /// What came at the stations of a study lately, by its number.
    pub arrived: Stamped<i64, Arrived>,
    /// How the nodes of a study were lately: by study, days shown, and day.
    pub networks: Stamped<(i64, i64, i64), Vec<NodeHealth>>,
    /// Exercises that were made lately.
    pub exercises: Exercises,
    /// Places for thinning: arithmetic that keeps a core busy.
    pub thinning: Places,
    /// Places for looking at messages, however many come at once: pages need connections and cores as well.
    pub messages: Places,
    /// The room on the disk.
    pub disk: Disk,
    /// Signs and hides session cookies.
    pub key: Key,
    /// Imports that are being stored in the background.
    pub work: Work,
    /// The writer of messages.
    pub intake: Intake,
    /// What is known of the broker, if messages come through one.
    pub broker: Option<watch::Receiver<BrokerState>>,
    /// The stand-ins of a live demo.
    pub live: Option<Arc<Live>>,
    /// Notified when messages brought something: the tests that are due run soon.
    pub brought: Arc<Notify>,
    /// Parts of the demo that are made in the background, while they are.
    pub making: Arc<Mutex<Vec<&'static str>>>,
}

impl State {
    /// Opens a data directory; it is made if needed, and private.
    ///
    /// # Errors
    /// A sentence that says what is wrong with the directory.
    pub async fn open(data: &Path, mode: Mode) -> Result<Self, String> {
        let wrong = |e: std::io::Error| format!("The data directory {} cannot be used: {e}", data.display());
        data_dir::prepare(data).map_err(wrong)?;
        let file = data.join("ebrel.db");
        let store = Store::open(&file).await.map_err(|e| e.to_string())?;
        data_dir::private(&file, 0o600).map_err(wrong)?;
        let key = session_key(&data.join("session.key")).map_err(wrong)?;
        let brought = Arc::new(Notify::new());
        Ok(Self {
            intake: Intake::start(store.clone(), Arc::clone(&brought)),
            broker: None,
            live: None,
            store,
            data: data.to_owned(),
            mode,
            doors: Doors::default(),
            throttle: Throttle::default(),
            disk: Disk::default(),
            first_code: secrets::code(3),
            hashing: Places::new(2),
            heavy: Places::new(2),
            under_way: UnderWay::default(),
            windows: WindowCache::default(),
            glances: Stamped::of(GLANCES),
            arrived: Stamped::default(),
            networks: Stamped::default(),
            exercises: Exercises::default(),
            thinning: Places::new(2),
            messages: Places::new(2),
            key,
            work: Work::default(),
            brought,
            making: Arc::default(),
        })
    }

    /// The same application behind these doors.
    #[must_use]
    pub fn behind(self, doors: Doors) -> Self {
        Self { doors, ..self }
    }

    /// Which parts of the demo are still being made, in words.
    #[must_use]
    pub fn still_made(&self) -> Option<String> {
        let making = self.making.lock().map(|m| m.join(", ")).unwrap_or_default();
        Some(making).filter(|m| !m.is_empty())
    }

    /// The moment that counts as now in a study.
    #[must_use]
    pub fn now(&self, study: &Study) -> UnixSeconds {
        now_of(study.fixed_now)
    }

    /// The name of the session cookie: another one for each data directory, so that two servers on one host do not sign each
    /// other's visitors out.
    #[must_use]
    pub fn cookie_name(&self) -> String {
        format!("ebrel-{}", &hex::encode(Sha256::digest(self.key.master()))[..8])
    }
}

/// The moment that counts as now: a fixed one, else the clock's.
#[must_use]
pub fn now_of(fixed: Option<i64>) -> UnixSeconds {
    fixed.map_or_else(wall_clock, UnixSeconds)
}

/// The machine's clock.
#[must_use]
pub fn wall_clock() -> UnixSeconds {
    let since = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
    UnixSeconds(i64::try_from(since.as_secs()).unwrap_or(i64::MAX))
}

/// The key that signs and hides session cookies: made once, readable by the owner alone.
fn session_key(path: &Path) -> std::io::Result<Key> {
    if let Ok(bytes) = std::fs::read(path)
        && bytes.len() >= 64
    {
        data_dir::private(path, 0o600)?;
        return Ok(Key::from(&bytes));
    }
    let key = Key::generate();
    let mut options = std::fs::OpenOptions::new();
    options.write(true).create(true).truncate(true);
    #[cfg(unix)]
    std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
    std::io::Write::write_all(&mut options.open(path)?, key.master())?;
    Ok(key)
}
