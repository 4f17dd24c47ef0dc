//! How the probes get into the soil: methods, the drawing, the numbers.

use super::super::context::{Head, OnPage};
use crate::components::dig::{Drawing, Measures};
use crate::components::fields::{Choice, FigureField};
use crate::shell::Shell;
use crate::shell::figures::fixed;
use askama::Template;
use ebrel_app::planning::StationPlan;
use ebrel_core::planning::{Disagreement, Figure, Method, Suits};

struct MethodRow {
    code: &'static str,
    name: &'static str,
    good_for: &'static str,
    price: &'static str,
    because: String,
    suits: (&'static str, &'static str),
    preferred: bool,
    taken: bool,
}

/// The numbers of one probe.
pub struct NumberRow {
    /// Row in the draft.
    pub path: String,
    pub label: String,
    /// Depth of its centre.
    pub depth: String,
    /// Number of its hole.
    pub hole: usize,
    /// Depth of the hole.
    pub bottom: String,
    /// Length along the hole.
    pub length: String,
    /// The pushing pipe's marks.
    pub marks: String,
    /// Pipe to cut.
    pub pipe: String,
    /// What it senses.
    pub senses: String,
    /// Cable it needs.
    pub needs: String,
    /// Cable it has.
    pub has: String,
    pub typed: String,
    /// What is said of its cable.
    pub says: Vec<crate::components::fields::FieldMessage>,
}

/// Soil of one horizon, out and back.
pub struct SoilRow {
    pub name: String,
    /// From where to where.
    pub span: String,
    pub litres: String,
    pub density: String,
    pub dry: String,
    pub moist: String,
}

#[derive(Template)]
#[template(path = "rooms/plan/station/steps/hole.html")]
pub struct HolePage {
    shell: Shell,
    head: Head,
    answer: String,
    methods: Vec<MethodRow>,
    method_says: Vec<crate::components::fields::FieldMessage>,
    case: Vec<Choice>,
    disagreements: Vec<(Disagreement, Choice)>,
    geometry: Vec<FigureField>,
    cable: Vec<FigureField>,
    drawing: Drawing,
    numbers: Vec<NumberRow>,
    soil: Vec<SoilRow>,
    water: FigureField,
    pushed: bool,
    piped: bool,
}

pub fn page(shell: Shell, head: Head, context: &StationPlan) -> HolePage {
    let plan = &context.found.plan;
    let methods: Vec<MethodRow> = (context.found.fits.iter())
        .map(|f| MethodRow {
            code: f.method.code(),
            name: f.method.name(),
            good_for: f.method.good_for(),
            price: f.method.price(),
            because: f.because.clone(),
            suits: match f.suits {
                Suits::Well => ("well", "fits"),
                Suits::Poorly => ("poorly", "fits poorly"),
                Suits::No => ("no", "cannot be"),
            },
            preferred: f.preferred,
            taken: f.method == plan.method,
        })
        .collect();
    let best = context.found.fits.iter().find(|f| f.preferred);
    let answer = match best {
        _ if plan.buried().next().is_none() => "Choose the depths first; the hole follows.".to_owned(),
        _ if context.found.dig.set.is_empty() => "No probe can be placed so.".to_owned(),
        Some(best) if best.method == plan.method => format!("{}: {}.", capital(best.method.name()), best.because),
        Some(best) => format!(
            "{} is taken; preferred here: {}, since {}.",
            capital(plan.method.name()),
            best.method.name(),
            best.because
        ),
        None => format!("{} is taken; no method fits well.", capital(plan.method.name())),
    };
    let disagreements = context.found.disagreements.iter().map(|d| {
        let mut answers: Vec<(&str, &str)> = d.sides.iter().map(|s| (s.code, s.name)).collect();
        answers.sort_by_key(|a| a.0 != d.sides[0].code);
        (d.clone(), context.choice(d.question, d.asks, &answers))
    });
    let measures = Measures::from_code(context.draft.choice("measures"));
    HolePage {
        answer,
        methods,
        method_says: context.says("choices.method"),
        case: vec![
            context.choice(
                "hardness",
                "How hard is the soil",
                &[
                    ("firm", "firm: a knife goes in"),
                    ("soft", "soft: a finger goes in"),
                    ("hard", "hard: a knife has to be hammered"),
                ],
            ),
            context.choice(
                "machines",
                "Machines",
                &[("none", "none"), ("mowing", "above the ground"), ("ploughing", "working the soil")],
            ),
            context.choice("measures", "Lengths shown in", &[("cm", "centimetres"), ("in", "inches")]),
        ],
        disagreements: disagreements.collect(),
        geometry: context.figures(geometry(plan.method)),
        cable: if plan.method == Method::Buried {
            context.figures(&[Figure::Loop, Figure::Slack])
        } else {
            context.figures(&[
                Figure::CableRun,
                Figure::PostRise,
                Figure::Loop,
                Figure::Slack,
                Figure::ConduitDown,
                Figure::ConduitUp,
            ])
        },
        drawing: Drawing::of(&context.found, measures),
        numbers: numbers(context, measures),
        soil: soil(context, measures),
        water: context.figure(Figure::WaterToday),
        pushed: context.found.dig.set.iter().any(|s| s.marks.is_some()),
        piped: context.found.dig.set.iter().any(|s| s.pipe_cut_cm.is_some()),
        shell,
        head,
    }
}

/// The numbers that a method asks for.
const fn geometry(method: Method) -> &'static [Figure] {
    use Figure::{
        Collar, GroundSlope, HoleAngle, HoleDiameter, HoleSpacing, NodeDepth, PipeAbove, PitLength, PitWidth,
        PusherPipe, RoomBelow, Standoff,
    };
    match method {
        Method::Pit | Method::Recess => &[PitLength, PitWidth, HoleSpacing],
        Method::Buried => &[PitLength, PitWidth, NodeDepth, HoleSpacing],
        Method::SideWall => &[HoleDiameter, RoomBelow, Collar],
        Method::Straight | Method::Slurry => &[HoleDiameter, HoleSpacing, Collar, PusherPipe, Standoff],
        Method::Slanted => &[HoleAngle, GroundSlope, HoleDiameter, HoleSpacing, Collar, PusherPipe, Standoff],
        Method::Pipe => &[HoleDiameter, HoleSpacing, Collar, PipeAbove],
        Method::Surface => &[HoleSpacing],
        Method::ShortTrench => &[HoleAngle, HoleSpacing],
    }
}

fn capital(text: &str) -> String {
    let mut letters = text.chars();
    letters.next().map(|c| c.to_uppercase().chain(letters).collect()).unwrap_or_default()
}

/// The numbers of every probe in its hole.
pub fn numbers(context: &StationPlan, measures: Measures) -> Vec<NumberRow> {
    let found = &context.found;
    (found.dig.set.iter())
        .map(|s| {
            let p = &found.plan.probes[s.probe];
            let hole = &found.dig.holes[s.hole];
            let (top, bottom) = p.span();
            NumberRow {
                path: p.field("cable_m"),
                label: p.label.clone(),
                depth: measures.show(p.depth_cm),
                hole: s.hole + 1,
                bottom: measures.show(hole.bottom_cm),
                length: measures.show(hole.length_cm),
                marks: s
                    .marks
                    .map(|(a, b)| format!("{} / {}", measures.show(a.from_bottom_cm), measures.show(b.from_bottom_cm)))
                    .unwrap_or_default(),
                pipe: s.pipe_cut_cm.map(|c| measures.show(c)).unwrap_or_default(),
                senses: format!("{} to {}", fixed(top, 1), fixed(bottom, 1)),
                needs: fixed(s.cable_m, 1),
                has: fixed(p.cable_m, 1),
                typed: context.draft.probes[p.row].cable_m.to_string(),
                says: context.says(&p.field("cable_m")),
            }
        })
        .collect()
}

/// Soil out and back by horizon.
pub fn soil(context: &StationPlan, measures: Measures) -> Vec<SoilRow> {
    let mass = |kg: Option<f64>| kg.map_or_else(|| "not known".to_owned(), |kg| format!("{kg:.1}"));
    (context.found.layers.iter())
        .map(|l| SoilRow {
            name: l.name.clone(),
            span: format!("{} to {}", measures.show(l.span_cm.0), measures.show(l.span_cm.1)),
            litres: format!("{:.1}", l.litres),
            density: l.density.map_or_else(|| "not known".to_owned(), |d| fixed(d, 2)),
            dry: mass(l.dry_kg),
            moist: mass(l.moist_kg),
        })
        .collect()
}
