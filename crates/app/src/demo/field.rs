//! The demo's logs: the cut coupe's installation and visits, and the hollow at the spring, which is being installed today.

use crate::field::{Pack, PackProbe, PackStep, pack};
use crate::planning::PlanError;
use ebrel_core::field::{ClockCheck, Deed, Entry, LogKind, StepOutcome, judge};
use ebrel_core::units::UnixSeconds;
use ebrel_simulator::three_rod_counts;
use ebrel_store::Store;

/// Writes entries of one log, a number and some minutes further each time.
pub(super) struct Writer<'p> {
    pack: &'p Pack,
    log: String,
    at: UnixSeconds,
    pub(super) entries: Vec<Entry>,
}

impl<'p> Writer<'p> {
    pub(super) fn new(pack: &'p Pack, number: u32, of: LogKind, at: UnixSeconds) -> Self {
        let log = format!("01970000-0000-7000-8000-{number:012}");
        let mut writer = Self { pack, log, at, entries: Vec::new() };
        writer.write(Deed::Begun { of });
        writer
    }

    pub(super) fn write(&mut self, deed: Deed) {
        let number = self.entries.len();
        let id = format!("{}-{number:03}", self.log);
        let (log, station, by) = (self.log.clone(), self.pack.code.clone(), "TQ".to_owned());
        self.entries.push(Entry { id, log, station, at: self.at, by, corrects: None, deed });
        self.at = UnixSeconds(self.at.0 + 4 * 60);
    }

    pub(super) fn done(&mut self, step: &str, does: &str) {
        let (step, does) = (step.to_owned(), does.to_owned());
        self.write(Deed::Step { step, does, outcome: StepOutcome::Done, note: String::new() });
    }

    /// A probe put in and read; its reading is that of a soil at 0.25 m³/m³, or of a mild day.
    fn probe(&mut self, step: &PackStep) {
        let Some(probe) = step.number.and_then(|n| self.pack.probes.get(n)) else { return };
        self.write(Deed::Probe {
            serial: probe.label.clone(),
            depth_cm: probe.depth_cm,
            port: probe.port.clone(),
            orientation: probe.orientation.clone(),
            given_up: false,
            repacked: false,
        });
        self.reading(probe, shown_at(probe, 0.25));
    }

    /// Three readings that agree, with what the phone said of them.
    pub(super) fn reading(&mut self, probe: &PackProbe, raw: f64) {
        let repeats = vec![raw, raw, raw];
        let said = judge(&probe.limits, &repeats, None).map(|j| j.says).unwrap_or_default();
        self.write(Deed::Reading { serial: probe.label.clone(), repeats, said });
    }

    /// The steps of a visit, all done.
    pub(super) fn visited(&mut self) {
        for (step, does) in [
            ("clock", "Clock: what the node shows, and what it truly is."),
            ("last-record", "The last record was written when it was due."),
            ("battery", "Battery: voltage under load, poles clean."),
            ("enclosure", "Enclosure: dry inside, gasket whole, gel still blue."),
            ("cables", "Cables and plugs: no gnawing, no strain, tight."),
            ("cover", "Cover and surface: as they were; photographs from the usual places."),
        ] {
            self.done(step, does);
        }
    }

    /// What a step asks for, and that it is done.
    pub(super) fn step(&mut self, step: &PackStep) {
        match step.about {
            "hole" => self.write(Deed::Hole { number: step.number.unwrap_or(0).max(1) as u32, depth_cm: 72.0 }),
            "horizons" => {
                for layer in self.pack.layers.clone() {
                    let (top_cm, bottom_cm) = layer.span_cm;
                    self.write(Deed::Horizon { name: layer.name, top_cm, bottom_cm, texture: layer.texture });
                }
            }
            "cores" => self.write(Deed::Core { tin: "K12".into(), depth_cm: 30.0, volume_cm3: 100.0 }),
            "probe" => self.probe(step),
            "layer" => {
                let name = step.layer.clone().unwrap_or_default();
                let kg = self.pack.layers.iter().find(|l| l.name == name).and_then(|l| l.kg).unwrap_or(12.0);
                self.write(Deed::Layer { name, kg: (kg * 10.0).round() / 10.0 });
            }
            _ => {}
        }
        self.done(&step.key, &step.does);
    }
}

/// What a handheld shows of a probe in soil of this water content, or on a mild day.
pub(super) fn shown_at(probe: &PackProbe, theta: f64) -> f64 {
    let limits = &probe.limits;
    match limits.raw_unit.as_str() {
        "°C" => 13.4,
        "counts" => three_rod_counts(102, theta),
        "kPa" => 31.0,
        "ohm" => 1_400.0,
        _ => limits.scale.iter().find(|p| p.1 >= theta).map_or(900.0, |p| p.0),
    }
}

/// Puts the logs in.
///
/// # Errors
/// [`PlanError`] if the database refuses.
pub async fn seed(store: &Store, study: i64, start: UnixSeconds) -> Result<(), PlanError> {
    let now = store.study(study).await?.fixed_now.map_or(start, UnixSeconds);
    let by_code = |code: &'static str| {
        let stations = store.stations(study);
        async move { Ok::<_, PlanError>(stations.await?.into_iter().find(|s| s.code == code).map(|s| s.id)) }
    };
    if let Some(cut) = by_code("cut").await? {
        let pack = pack(store, cut, now).await?;
        // What came of these is in the record already: they are kept as they were written, and its placements follow them.
        let lying = store.placements(cut).await?;
        for log in [
            installation(&pack, start),
            visit(&pack, 2, start, 195, "plugs and gaskets checked"),
            visit(&pack, 3, start, 600, "cable gnawed by a mouse, mended"),
        ] {
            let mut unit = store.unit().await?;
            for entry in log {
                let at = entry.at;
                unit.add_field_entry(cut, &entry, "T. Quill", at).await?;
                if let Deed::Probe { serial, port, given_up: false, .. } = &entry.deed
                    && let Some(p) = lying.iter().find(|p| p.probe.serial == *serial && p.port == *port)
                {
                    unit.note_entry(p.id, &entry.id).await?;
                }
            }
            unit.commit().await?;
        }
    }
    if let Some(hollow) = by_code("hollow").await? {
        let pack = pack(store, hollow, now).await?;
        let today = today(&pack, now);
        let values: Result<Vec<_>, _> = today.iter().map(serde_json::to_value).collect();
        super::beside::take(store, hollow, &values?, now).await?;
    }
    Ok(())
}

/// The cut coupe's day: a root at 30 cm, and an air gap that was pulled and put right.
fn installation(pack: &Pack, start: UnixSeconds) -> Vec<Entry> {
    let mut log = Writer::new(pack, 1, LogKind::Installation, UnixSeconds(start.0 + 6 * 3600));
    for step in pack.steps.iter().filter(|s| s.about != "probe") {
        if step.about == "layer" {
            break;
        }
        log.step(step);
    }
    for probe in pack.installed.iter().filter(|p| p.depth_cm >= 0.0).rev() {
        let put = |depth_cm: f64, given_up: bool| Deed::Probe {
            serial: probe.label.clone(),
            depth_cm,
            port: probe.port.clone(),
            orientation: "level, blade on edge".into(),
            given_up,
            repacked: false,
        };
        let blade = probe.label.starts_with("BD");
        if probe.depth_cm == 30.0 && blade {
            log.write(put(30.0, true));
            log.write(Deed::Note {
                text: "a root as thick as a thumb at 30 cm: the probe was moved a hand to the left".into(),
            });
        }
        log.write(put(probe.depth_cm, false));
        let moist = probe.limits.scale.iter().find(|p| p.1 >= 0.27).map_or(950.0, |p| p.0);
        let moist = if blade { moist } else { 6.2 };
        let mut read = |raw: f64| {
            let repeats = vec![raw, raw, raw];
            let said = judge(&probe.limits, &repeats, None).map(|j| j.says).unwrap_or_default();
            log.write(Deed::Reading { serial: probe.label.clone(), repeats, said });
        };
        if probe.depth_cm == 15.0 && blade {
            read(320.0);
        }
        read(moist);
    }
    for step in pack.steps.iter().filter(|s| s.about == "layer" || s.about == "leaving") {
        log.step(step);
    }
    log.write(Deed::Closed);
    log.entries
}

/// A visit `days` after the start, its clock found right.
fn visit(pack: &Pack, number: u32, start: UnixSeconds, days: i64, note: &str) -> Vec<Entry> {
    let at = UnixSeconds(start.0 + days * 86_400 + 9 * 3600);
    let mut log = Writer::new(pack, number, LogKind::Visit, at);
    log.write(Deed::Clock {
        node: pack.nodes.first().cloned().unwrap_or_default(),
        check: ClockCheck { shown: at, truth: at, set: false },
    });
    log.visited();
    log.write(Deed::Note { text: note.to_owned() });
    log.write(Deed::Closed);
    log.entries
}

/// The hollow up to its second probe: somebody is at it.
fn today(pack: &Pack, now: UnixSeconds) -> Vec<Entry> {
    let mut log = Writer::new(pack, 4, LogKind::Installation, UnixSeconds(now.0 - 3 * 3600));
    let mut probes = 0;
    for step in &pack.steps {
        probes += usize::from(step.about == "probe");
        if probes > 2 {
            break;
        }
        log.step(step);
    }
    let (step, note) = ("photographs".to_owned(), "the phone's camera was wet".to_owned());
    let does = "Photograph the face before it is filled.".to_owned();
    log.write(Deed::Step { step, does, outcome: StepOutcome::Skipped, note });
    log.entries
}
