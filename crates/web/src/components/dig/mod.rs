//! The hole to be dug, drawn to scale with its measures: the section again, this time as it will be made.
//!
//! `core::planning::Dig` places everything in centimetres; here it is scaled, labelled and kept apart.

mod words;

use ebrel_core::geometry::Attitude;
use ebrel_core::planning::{Assessment, PatchKind, Point, SetProbe};
use std::fmt::Write as _;
use words::{dimensions, labels, ticks};

/// The drawing's size, px.
const WIDTH: f64 = 640.0;
const HEIGHT: f64 = 470.0;
/// Room for the depth scale on the left, for words on both sides, above and below, px.
const SCALE_WIDTH: f64 = 38.0;
const WORDS: f64 = 128.0;
const ABOVE: f64 = 16.0;
const BELOW: f64 = 26.0;
/// Least distance between two labels, px.
const LINE: f64 = 15.0;

/// How lengths are shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Measures {
    Metric,
    /// Inches, with centimetres left to the storage.
    Inches,
}

impl Measures {
    /// By the plan's choice.
    #[must_use]
    pub fn from_code(code: &str) -> Self {
        if code == "in" { Self::Inches } else { Self::Metric }
    }

    /// A length with its unit, to a millimetre or a tenth of an inch.
    #[must_use]
    pub fn show(self, cm: f64) -> String {
        let (value, unit) = match self {
            Self::Metric => (cm, "cm"),
            Self::Inches => (cm / 2.54, "in"),
        };
        let text = format!("{value:.1}").replace('-', "−");
        format!("{}\u{a0}{unit}", text.strip_suffix(".0").unwrap_or(&text))
    }
}

/// A closed shape: its class and its path.
pub struct Shape {
    /// Class for the style.
    pub class: &'static str,
    pub path: String,
}

/// The soil a probe senses.
pub struct Sensed {
    /// Middle, px.
    pub x: f64,
    /// Middle, px.
    pub y: f64,
    /// Semi-axes, px.
    pub rx: f64,
    /// Semi-axes, px.
    pub ry: f64,
    /// Turn, degrees.
    pub turn: f64,
}

/// A label with the line that leads to what it names.
pub struct Label {
    /// Path of the leader.
    pub leader: String,
    /// Where the text stands.
    pub x: f64,
    /// Where the text stands.
    pub y: f64,
    /// `start` or `end`.
    pub anchor: &'static str,
    pub text: String,
    /// Second, softer line.
    pub soft: String,
}

/// A dimension line with its number.
pub struct Dimension {
    /// The line with its end strokes.
    pub path: String,
    /// Where the number stands.
    pub x: f64,
    /// Where the number stands.
    pub y: f64,
    /// `start`, `middle` or `end`.
    pub anchor: &'static str,
    pub text: String,
}

pub struct Band {
    pub path: String,
    /// Tone of the soil.
    pub tone: usize,
    /// Name and texture.
    pub words: String,
    /// Where the words stand.
    pub x: f64,
    /// Where the words stand.
    pub y: f64,
    /// `start` or `end`.
    pub anchor: &'static str,
}

/// What can be dragged up and down: a probe, or a boundary between horizons.
pub struct Handle {
    /// Where it stands, px.
    pub x: f64,
    /// Where it stands, px.
    pub y: f64,
    /// Path of its field in the draft.
    pub path: String,
    /// Its depth, cm.
    pub cm: f64,
    /// What it is.
    pub words: String,
    /// Whether it is a boundary.
    pub boundary: bool,
}

/// The whole drawing.
pub struct Drawing {
    /// Size, px.
    pub width: f64,
    /// Size, px.
    pub height: f64,
    pub bands: Vec<Band>,
    /// The ground's line.
    pub ground: String,
    pub holes: Vec<String>,
    /// Bentonite, conduit and the like.
    pub patches: Vec<Shape>,
    /// What the probes sense.
    pub sensed: Vec<Sensed>,
    /// Bodies and prongs.
    pub probes: Vec<Shape>,
    pub cable: String,
    pub labels: Vec<Label>,
    pub dimensions: Vec<Dimension>,
    /// Depth scale: px and number.
    pub ticks: Vec<(f64, String)>,
    /// Kinds of patch that are drawn, for the key.
    pub key: Vec<(&'static str, &'static str)>,
    /// What can be dragged, if anything.
    pub handles: Vec<Handle>,
    /// Pixels to a centimetre.
    pub per_cm: f64,
}

/// Turns centimetres into pixels.
struct Scale {
    per_cm: f64,
    x0: f64,
    y0: f64,
}

impl Scale {
    fn at(&self, (x, z): Point) -> Point {
        (self.x0 + x * self.per_cm, self.y0 + z * self.per_cm)
    }

    fn path(&self, points: &[Point], closed: bool) -> String {
        let mut path = String::new();
        for (i, p) in points.iter().enumerate() {
            let (x, y) = self.at(*p);
            // Writing to a String cannot fail.
            let _ = write!(path, "{}{x:.1} {y:.1}", if i == 0 { "M" } else { "L" });
        }
        if closed {
            path.push('Z');
        }
        path
    }
}

impl Drawing {
    /// Draws what is to be dug.
    #[must_use]
    pub fn of(found: &Assessment, measures: Measures) -> Self {
        let dig = &found.dig;
        let (left, right, top, bottom) = dig.extent();
        let deep = bottom * 1.06 + 3.0;
        let words_left = if found.plan.method.shares_hole() { WORDS } else { WORDS * 0.6 };
        let room = (WIDTH - SCALE_WIDTH - WORDS - words_left, HEIGHT - ABOVE - BELOW);
        let per_cm = (room.0 / (right - left)).min(room.1 / (deep - top));
        let used = (right - left) * per_cm;
        let x0 = SCALE_WIDTH + words_left + (room.0 - used) / 2.0 - left * per_cm;
        let scale = Scale { per_cm, x0, y0: ABOVE - top * per_cm };
        let edge = ((SCALE_WIDTH - x0) / per_cm, (WIDTH - x0) / per_cm);
        let ground = |x: f64, z: f64| (x, dig.ground(x) + z);
        let bands = bands(found, &scale, edge, deep);
        let mut key: Vec<(&str, &str)> = Vec::new();
        for p in &dig.patches {
            let entry = (patch_class(p.kind), patch_words(p.kind));
            if !key.contains(&entry) {
                key.push(entry);
            }
        }
        let sensed = dig.set.iter().map(|s| sensed(s, found, &scale)).collect();
        let mut probes = Vec::new();
        for s in &dig.set {
            probes.push(Shape { class: "prongs", path: scale.path(&s.prongs, true) });
            probes.push(Shape { class: "probe-body", path: scale.path(&s.body, true) });
        }
        probes.retain(|p| p.path.len() > 1);
        Self {
            width: WIDTH,
            height: scale.y0 + deep * per_cm + BELOW,
            bands,
            ground: scale.path(&[ground(edge.0, 0.0), ground(edge.1, 0.0)], false),
            holes: dig.holes.iter().map(|h| scale.path(&h.outline, true)).collect(),
            patches: dig
                .patches
                .iter()
                .map(|p| Shape { class: patch_class(p.kind), path: scale.path(&p.outline, true) })
                .collect(),
            sensed,
            probes,
            cable: scale.path(&dig.cable, false),
            labels: labels(found, &scale, measures),
            dimensions: dimensions(found, &scale, measures),
            ticks: ticks(&scale, deep, measures),
            key,
            handles: Vec::new(),
            per_cm,
        }
    }

    /// The same drawing with handles at its probes and boundaries.
    #[must_use]
    pub fn with_handles(mut self, found: &Assessment) -> Self {
        let y0 = self.ticks.first().map_or(0.0, |t| t.0);
        let at = |cm: f64| y0 + cm * self.per_cm;
        let boundaries = found.plan.soil.horizons().iter().enumerate().map(|(i, l)| Handle {
            x: if names_right(found) { SCALE_WIDTH + 10.0 } else { WIDTH - 12.0 },
            y: at(l.bottom_cm),
            path: format!("horizons.{i}.bottom_cm"),
            cm: l.bottom_cm,
            words: format!("lower boundary of {}", l.name),
            boundary: true,
        });
        let probes = found.dig.set.iter().map(|s| {
            let p = &found.plan.probes[s.probe];
            let x = self
                .sensed
                .get(found.dig.set.iter().position(|t| t.probe == s.probe).unwrap_or(0))
                .map_or(0.0, |e| e.x);
            let words = format!("depth of {}", p.label);
            Handle { x, y: at(p.depth_cm), path: p.field("depth_cm"), cm: p.depth_cm, words, boundary: false }
        });
        let handles: Vec<Handle> = boundaries.chain(probes).filter(|h| h.y < self.height - 4.0).collect();
        self.handles = handles;
        self
    }
}

fn bands(found: &Assessment, scale: &Scale, edge: (f64, f64), deep: f64) -> Vec<Band> {
    let ground = |x: f64, z: f64| (x, found.dig.ground(x) + z);
    let (side, anchor, off) = if names_right(found) { (edge.1, "end", -5.0) } else { (edge.0, "start", 5.0) };
    let named = |top: f64| {
        let (x, y) = scale.at(ground(side, top));
        (x + off, y + 13.0)
    };
    let mut bands: Vec<Band> = (found.plan.soil.horizons().iter().filter(|l| l.top_cm < deep).enumerate())
        .map(|(i, l)| {
            let end = l.bottom_cm.min(deep);
            let points = [ground(edge.0, l.top_cm), ground(edge.1, l.top_cm), ground(edge.1, end), ground(edge.0, end)];
            let (x, y) = named(l.top_cm);
            let worded = (end - l.top_cm) * scale.per_cm > 16.0;
            let words = if worded { format!("{} {}", l.name, l.texture) } else { String::new() };
            Band { path: scale.path(&points, true), tone: i % 4 + 1, words, x, y, anchor }
        })
        .collect();
    let known = found.plan.soil.horizons().last().map_or(0.0, |l| l.bottom_cm);
    if known < deep {
        let points = [ground(edge.0, known), ground(edge.1, known), ground(edge.1, deep), ground(edge.0, deep)];
        let (x, y) = named(known);
        let words = if (deep - known) * scale.per_cm > 16.0 { "soil not described".to_owned() } else { String::new() };
        bands.push(Band { path: scale.path(&points, true), tone: 0, words, x, y, anchor });
    }
    bands
}

/// Whether the horizons' names stand on the right: where the probes are named on the left.
fn names_right(found: &Assessment) -> bool {
    found.plan.method.shares_hole() && found.dig.set.iter().all(|s| s.side < 0)
}

const fn patch_class(kind: PatchKind) -> &'static str {
    match kind {
        PatchKind::Bentonite => "bentonite",
        PatchKind::Slurry => "slurry",
        PatchKind::Conduit => "conduit",
        PatchKind::Pipe => "pipe",
        PatchKind::Node => "node",
        PatchKind::Mound => "mound",
    }
}

const fn patch_words(kind: PatchKind) -> &'static str {
    match kind {
        PatchKind::Bentonite => "bentonite",
        PatchKind::Slurry => "slurry of native soil",
        PatchKind::Conduit => "conduit",
        PatchKind::Pipe => "pipe",
        PatchKind::Node => "node",
        PatchKind::Mound => "mound under the sod",
    }
}

fn sensed(s: &SetProbe, found: &Assessment, scale: &Scale) -> Sensed {
    let [x, _, z] = s.volume.centre;
    let (px, py) = scale.at((x, z));
    let [along, across, off] = s.volume.semi.map(|v| v * scale.per_cm);
    let attitude = found.plan.probes[s.probe].attitude;
    let (rx, ry, turn) = match attitude {
        Attitude::LevelOnEdge => (along, across, 0.0),
        Attitude::LevelFlat => (along, off, 0.0),
        Attitude::Upright => (off, along, 0.0),
        Attitude::Slanted(deg) => (along, off, f64::from(s.side) * (90.0 - deg)),
    };
    Sensed { x: px, y: py, rx, ry, turn }
}

#[cfg(test)]
mod tests;
