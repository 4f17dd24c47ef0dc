//! The hole to be dug, drawn to scale with its measures: the section again, this time as it will be made.
//!
//! `core::planning::Dig` places everything in centimetres; here it is scaled, labelled and kept apart.

use ebrel_core::geometry::Attitude;
use ebrel_core::planning::{Assessment, PatchKind, Point, SetProbe};
use std::fmt::Write as _;

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
    /// Centimetres.
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
    /// SVG path.
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
    /// First line.
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
    /// The number.
    pub text: String,
}

/// A horizon.
pub struct Band {
    /// Path.
    pub path: String,
    /// Tone of the soil.
    pub tone: usize,
    /// Name and texture.
    pub words: String,
    /// Where the words stand.
    pub x: f64,
    /// Where the words stand.
    pub y: f64,
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
    /// Horizons.
    pub bands: Vec<Band>,
    /// The ground's line.
    pub ground: String,
    /// Holes.
    pub holes: Vec<String>,
    /// Bentonite, conduit and the like.
    pub patches: Vec<Shape>,
    /// What the probes sense.
    pub sensed: Vec<Sensed>,
    /// Bodies and prongs.
    pub probes: Vec<Shape>,
    /// The cable.
    pub cable: String,
    /// Names.
    pub labels: Vec<Label>,
    /// Measures.
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
        let room = (WIDTH - SCALE_WIDTH - 2.0 * WORDS, HEIGHT - ABOVE - BELOW);
        let per_cm = (room.0 / (right - left)).min(room.1 / (deep - top));
        let used = (right - left) * per_cm;
        let x0 = SCALE_WIDTH + WORDS + (room.0 - used) / 2.0 - left * per_cm;
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
            patches: dig.patches.iter().map(|p| Shape { class: patch_class(p.kind), path: scale.path(&p.outline, true) }).collect(),
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
    pub fn to_be_dragged(mut self, found: &Assessment) -> Self {
        let y0 = self.ticks.first().map_or(0.0, |t| t.0);
        let at = |cm: f64| y0 + cm * self.per_cm;
        let boundaries = found.plan.layers.iter().enumerate().map(|(i, l)| Handle {
            x: SCALE_WIDTH + WORDS - 40.0,
            y: at(l.bottom_cm),
            path: format!("horizons.{i}.bottom_cm"),
            cm: l.bottom_cm,
            words: format!("lower boundary of {}", l.name),
            boundary: true,
        });
        let probes = found.dig.set.iter().map(|s| {
            let p = &found.plan.probes[s.probe];
            let x = self.sensed.get(found.dig.set.iter().position(|t| t.probe == s.probe).unwrap_or(0)).map_or(0.0, |e| e.x);
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
    let mut bands: Vec<Band> = (found.plan.layers.iter().filter(|l| l.top_cm < deep).enumerate())
        .map(|(i, l)| {
            let end = l.bottom_cm.min(deep);
            let points = [ground(edge.0, l.top_cm), ground(edge.1, l.top_cm), ground(edge.1, end), ground(edge.0, end)];
            let (x, y) = scale.at(ground(edge.0, l.top_cm));
            let worded = (end - l.top_cm) * scale.per_cm > 16.0;
            let words = if worded { format!("{} {}", l.name, l.texture) } else { String::new() };
            Band { path: scale.path(&points, true), tone: i % 4 + 1, words, x: x + 5.0, y: y + 13.0 }
        })
        .collect();
    let known = found.plan.layers.last().map_or(0.0, |l| l.bottom_cm);
    if known < deep {
        let points = [ground(edge.0, known), ground(edge.1, known), ground(edge.1, deep), ground(edge.0, deep)];
        let (x, y) = scale.at(ground(edge.0, known));
        let words = if (deep - known) * scale.per_cm > 16.0 { "soil not described".to_owned() } else { String::new() };
        bands.push(Band { path: scale.path(&points, true), tone: 0, words, x: x + 5.0, y: y + 13.0 });
    }
    bands
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

/// A label for each depth on each side; several probes at one depth share it.
fn labels(found: &Assessment, scale: &Scale, measures: Measures) -> Vec<Label> {
    let (left, right) = (SCALE_WIDTH + WORDS - 8.0, WIDTH - WORDS + 8.0);
    let shared = found.plan.method.shares_hole();
    let mut groups: Vec<(bool, f64, Point, Vec<String>)> = Vec::new();
    for s in &found.dig.set {
        let p = &found.plan.probes[s.probe];
        let to_left = shared && s.side < 0;
        let tip = (s.volume.centre[0], s.volume.centre[2]);
        match groups.iter_mut().find(|g| g.0 == to_left && (g.1 - p.depth_cm).abs() < 0.5) {
            Some(group) if shared => group.3.push(p.label.clone()),
            _ => groups.push((to_left, p.depth_cm, tip, vec![p.label.clone()])),
        }
    }
    groups.sort_by(|a, b| a.0.cmp(&b.0).then(a.1.total_cmp(&b.1)));
    let mut labels: Vec<Label> = Vec::new();
    let mut lowest = [f64::MIN; 2];
    for (to_left, depth, tip, names) in groups {
        let (tx, ty) = scale.at(tip);
        let (x, anchor, bend) = if to_left { (left, "end", 5.0) } else { (right, "start", -5.0) };
        let side = usize::from(to_left);
        let y = ty.max(lowest[side] + 2.0 * LINE);
        lowest[side] = y;
        let leader = format!("M{tx:.1} {ty:.1}L{:.1} {y:.1}", x + bend);
        let soft = if names.len() > 2 { format!("{} probes", names.len()) } else { names.join(", ") };
        labels.push(Label { leader, x, y: y + 1.0, anchor, text: measures.show(depth), soft });
    }
    labels
}

/// Depth of each hole, its length where it is slanted, its width, and the conduit's legs.
fn dimensions(found: &Assessment, scale: &Scale, measures: Measures) -> Vec<Dimension> {
    let dig = &found.dig;
    let mut all = Vec::new();
    for (i, hole) in dig.holes.iter().enumerate() {
        let (a, b) = (hole.outline[1], hole.outline[2]);
        let (x0, y0) = scale.at(a);
        let (x1, y1) = scale.at(b);
        let y = y0.max(y1) + 12.0;
        if hole.angle_deg == 0.0 && i == 0 {
            let text = if found.plan.method.is_bored() { format!("⌀ {}", measures.show(b.0 - a.0)) } else { measures.show((b.0 - a.0).abs()) };
            all.push(Dimension {
                path: format!("M{x0:.1} {:.1}v8M{x1:.1} {:.1}v8M{x0:.1} {y:.1}H{x1:.1}", y - 4.0, y - 4.0),
                x: f64::midpoint(x0, x1),
                y: y + 14.0,
                anchor: "middle",
                text,
            });
        }
        let (ex, ey) = scale.at(hole.entry);
        if hole.angle_deg > 0.0 {
            let (mx, my) = (f64::midpoint(x0, x1), f64::midpoint(y0, y1));
            all.push(Dimension {
                path: format!("M{ex:.1} {ey:.1}L{mx:.1} {my:.1}"),
                x: mx - 8.0,
                y: my + 16.0,
                anchor: "middle",
                text: format!("{} along, {}°", measures.show(hole.length_cm), hole.angle_deg.round()),
            });
        } else if i == 0 {
            // Beside the wall that has no probe, inside the hole where it is wide.
            let wide = (x1 - x0).abs() > 60.0;
            let x = if wide { x1.max(x0) - 26.0 } else { x0.min(x1) - 14.0 };
            let (_, ground) = scale.at((0.0, 0.0));
            all.push(Dimension {
                path: format!("M{:.1} {ground:.1}h8M{:.1} {y1:.1}h8M{x:.1} {ground:.1}V{y1:.1}", x - 4.0, x - 4.0),
                x: x - 5.0,
                y: f64::midpoint(ground, y1),
                anchor: "end",
                text: measures.show(hole.bottom_cm),
            });
        }
    }
    if let [down, _, foot, up, ..] = dig.cable[..] {
        let (fx, fy) = scale.at(foot);
        let (_, uy) = scale.at(up);
        let (dx, dy) = scale.at(down);
        let text = |x: f64, y: f64, anchor, text: String| Dimension { path: String::new(), x, y, anchor, text };
        all.push(text(fx + 6.0, f64::midpoint(fy, uy), "start", measures.show((foot.1 - up.1).abs())));
        all.push(text(dx + 4.0, dy + 12.0, "middle", measures.show((down.1 - foot.1).abs().max(1.0))));
    }
    all
}

fn ticks(scale: &Scale, deep: f64, measures: Measures) -> Vec<(f64, String)> {
    let unit = if measures == Measures::Inches { 2.54 } else { 1.0 };
    let steps = [1.0, 2.0, 5.0, 10.0, 20.0, 50.0, 100.0];
    let step = steps.into_iter().find(|s| s * unit * scale.per_cm > 26.0).unwrap_or(200.0);
    (0..)
        .map(|i| f64::from(i) * step)
        .take_while(|v| v * unit < deep)
        .map(|v| (scale.at((0.0, v * unit)).1, v.to_string()))
        .collect()
}
