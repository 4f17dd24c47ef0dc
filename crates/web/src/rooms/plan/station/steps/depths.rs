//! Which depths, in which soil.

use super::super::context::{Head, OnPage};
use crate::components::dig::{Drawing, Measures};
use crate::components::fields::FieldMessage;
use crate::components::fields::{Answer, Choice, FigureField, TextField};
use crate::shell::Shell;
use askama::Template;
use ebrel_app::planning::StationPlan;
use ebrel_core::planning::{Figure, Severity, Step};

struct OfferRow {
    code: &'static str,
    school: &'static str,
    gives: &'static str,
    depths: String,
    empty: bool,
}

struct HorizonRow {
    name: TextField,
    texture: TextField,
    bottom: TextField,
    density: TextField,
    sand: TextField,
    clay: TextField,
    organic: TextField,
}

struct ProbeRow {
    depth: TextField,
    model: Choice,
    lies: Choice,
    purpose: TextField,
    serial: TextField,
    sentinel: (String, bool),
    span: String,
}

#[derive(Template)]
#[template(path = "rooms/plan/station/steps/depths.html")]
pub struct DepthsPage {
    shell: Shell,
    head: Head,
    answer: String,
    figures: Vec<FigureField>,
    offers: Vec<OfferRow>,
    models: Vec<Answer>,
    horizons: Vec<HorizonRow>,
    probes: Vec<ProbeRow>,
    drawing: Drawing,
    whole: Vec<FieldMessage>,
}

const LIES: [(&str, &str); 5] = [
    ("", "as the method has it"),
    ("edge", "level, on edge"),
    ("flat", "level, flat"),
    ("upright", "upright"),
    ("slanted", "slanted"),
];

pub fn page(shell: Shell, mut head: Head, context: &StationPlan) -> DepthsPage {
    let found = &context.found;
    let offers = found.offers.iter().map(|o| OfferRow {
        code: o.code,
        school: o.school,
        gives: o.gives,
        empty: o.depths.is_empty(),
        depths: if o.depths.is_empty() {
            "nothing for this soil and these roots".into()
        } else {
            let each: Vec<String> = o
                .depths
                .iter()
                .map(|d| if d.sentinel { format!("{} (sentinel)", d.depth_cm) } else { d.depth_cm.to_string() })
                .collect();
            format!("{} cm", each.join(", "))
        },
    });
    let horizons = context.draft.horizons.iter().enumerate().map(|(i, h)| {
        let text = |field: &str, typed| context.text(format!("horizons.{i}.{field}"), typed);
        HorizonRow {
            name: text("name", &h.name),
            texture: text("texture", &h.texture),
            bottom: text("bottom_cm", &h.bottom_cm),
            density: text("density", &h.density),
            sand: text("sand_pct", &h.sand_pct),
            clay: text("clay_pct", &h.clay_pct),
            organic: text("organic_pct", &h.organic_pct),
        }
    });
    let probes = (0..context.draft.probes.len()).map(|i| probe(context, i));
    let stops = found.stops(Some(Step::Depths)).count();
    let weak = found.remarks.iter().filter(|r| r.step == Step::Depths && r.severity == Severity::Weak).count();
    let answer = match (stops, weak) {
        _ if found.dig.set.is_empty() => "Take a school's depths, or add a probe.".to_owned(),
        (0, 0) => "Every probe senses soil of its own.".to_owned(),
        (0, n) => format!("It can be done so, with {n} weak point{}.", if n == 1 { "" } else { "s" }),
        (n, _) => format!("{n} thing{} to put right at the depths.", if n == 1 { "" } else { "s" }),
    };
    let models = context.catalogue.probes.iter().filter(|p| p.in_soil);
    DepthsPage {
        answer,
        figures: context.figures(&[Figure::Roots, Figure::Stones, Figure::ToolClearance]),
        offers: offers.collect(),
        models: models.map(|m| Answer { code: m.code.clone(), words: m.name.clone(), taken: false }).collect(),
        horizons: horizons.collect(),
        probes: probes.collect(),
        drawing: Drawing::of(found, Measures::from_code(context.draft.choice("measures"))).with_handles(found),
        whole: std::mem::take(&mut head.says),
        shell,
        head,
    }
}

fn probe(context: &StationPlan, i: usize) -> ProbeRow {
    let draft = &context.draft.probes[i];
    let text = |field: &str, typed| context.text(format!("probes.{i}.{field}"), typed);
    let choice = |field: &str, name, answers: Vec<(String, String)>, taken: &str| {
        let path = format!("probes.{i}.{field}");
        let answers = answers.into_iter().map(|(code, words)| Answer { taken: code == taken, code, words }).collect();
        Choice { name, answers, says: context.says(&path), path }
    };
    let mut models: Vec<(String, String)> =
        context.catalogue.probes.iter().map(|m| (m.code.clone(), m.name.clone())).collect();
    if context.catalogue.probe(&draft.model).is_none() {
        models.insert(0, (draft.model.to_string(), "choose a model".into()));
    }
    let lies = LIES.iter().map(|(c, w)| ((*c).to_owned(), (*w).to_owned())).collect();
    let span = context.found.plan.probes.iter().find(|p| p.row == i && p.model.in_soil).map_or_else(String::new, |p| {
        let (top, bottom) = p.span();
        format!("{top:.1} to {bottom:.1}").replace('-', "−")
    });
    ProbeRow {
        depth: text("depth_cm", &draft.depth_cm),
        model: choice("model", "Model", models, &draft.model),
        lies: choice("lies", "Lies", lies, &draft.lies),
        purpose: text("purpose", &draft.purpose),
        serial: text("serial", &draft.serial),
        sentinel: (format!("probes.{i}.sentinel"), draft.sentinel.is_yes()),
        span,
    }
}
