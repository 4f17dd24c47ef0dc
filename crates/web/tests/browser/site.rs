//! A server of its own with a browser before it.

use ebrel::server::server;
use ebrel::state::{Mode, State};
use ebrel_browser::Browser;
use std::net::TcpListener;
use std::path::PathBuf;

/// The demo, and a window that looks at it.
pub struct Site {
    pub browser: Browser,
    pub base: String,
    pub data: tempfile::TempDir,
    /// The terminal's code, which the first account needs.
    pub code: String,
    handle: actix_web::dev::ServerHandle,
}

impl Site {
    pub async fn demo() -> Self {
        Self::start(true, false).await
    }

    /// The demo, whose nodes go on: a day in ten seconds.
    pub async fn live() -> Self {
        Self::start(true, true).await
    }

    /// Nothing yet: no study, and nobody has to sign in.
    pub async fn empty() -> Self {
        Self::start(false, false).await
    }

    /// What lies in a directory, where somebody signs in.
    pub async fn own(data: tempfile::TempDir) -> Self {
        Self::start_in(data, Mode::Serve { https: false }, false).await
    }

    async fn start(seeded: bool, live: bool) -> Self {
        let data = tempfile::tempdir().unwrap();
        if seeded {
            crate::demo::copy_into(data.path()).await;
        }
        Self::start_in(data, Mode::Demo, live).await
    }

    async fn start_in(data: tempfile::TempDir, mode: Mode, live: bool) -> Self {
        let mut app = State::open(data.path(), mode).await.unwrap();
        app.live = live.then(Default::default);
        let code = app.first_code.clone();
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let base = format!("http://{}", listener.local_addr().unwrap());
        let app = actix_web::web::Data::new(app);
        if live {
            tokio::spawn(ebrel::standins::live::go_on(app.clone(), base.clone(), 10.0));
        }
        let server = server(app, listener, None).unwrap();
        let handle = server.handle();
        tokio::spawn(server);
        Self { browser: Browser::start(1280, 800).await.unwrap(), base, data, code, handle }
    }

    pub async fn open(&self, path: &str) {
        self.browser.open(&format!("{}{path}", self.base)).await.unwrap();
    }

    /// A file on disk to be uploaded.
    pub fn file(&self, name: &str, text: &str) -> PathBuf {
        let path = self.data.path().join(name);
        std::fs::write(&path, text).unwrap();
        path
    }

    pub async fn end(self) {
        self.browser.close().await.unwrap();
        self.handle.stop(false).await;
    }
}

/// The station page with its section and strips.
pub struct StationPage<'s>(pub &'s Site);

impl StationPage<'_> {
    /// Waits until the strips show an answer of the server newer than `before`, and returns its number.
    pub async fn loaded(&self, before: u64) -> u64 {
        let script = "return document.querySelector('[data-strips]')?.dataset.loaded ?? '0'";
        let number = |v: serde_json::Value| v.as_str().and_then(|s| s.parse::<u64>().ok()).unwrap_or(0);
        number(self.0.browser.wait_script(script, |v| number(v.clone()) > before).await.unwrap())
    }

    /// The window's words: from when to when.
    pub async fn window(&self) -> String {
        self.0.browser.text(".window-words").await.unwrap()
    }

    /// The value beside a strip.
    pub async fn value(&self, strip: &str) -> String {
        self.0.browser.text(&format!(".readout[data-strip='{strip}'] .value")).await.unwrap()
    }
}
