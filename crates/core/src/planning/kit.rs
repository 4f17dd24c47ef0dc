//! What to take along, and what it costs.

use super::catalogue::ProbeModel;
use super::choices::{Fill, Hardness, Method, Stay};
use super::digging::Dig;
use super::figures::Figure;
use super::plan::Plan;
use super::ports::Wiring;
use crate::units::format_short;

/// What an item is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Shelf {
    /// Probes, logger, battery.
    Instruments,
    /// Tools.
    Tools,
    /// What is used up.
    Consumables,
    /// What protects people.
    Protection,
    /// Paper.
    Papers,
}

impl Shelf {
    /// All of them.
    pub const ALL: [Self; 5] = [Self::Instruments, Self::Tools, Self::Consumables, Self::Protection, Self::Papers];

    /// What it is called.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::Instruments => "Instruments",
            Self::Tools => "Tools",
            Self::Consumables => "Used up",
            Self::Protection => "Protection",
            Self::Papers => "Papers",
        }
    }
}

/// An item of the kit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Item {
    /// Key of its tick in the draft.
    pub code: String,
    /// Where it belongs.
    pub shelf: Shelf,
    /// What, with its number.
    pub what: String,
}

/// The kit that a plan asks for.
#[must_use]
pub fn kit(plan: &Plan, dig: &Dig) -> Vec<Item> {
    let mut items = Vec::new();
    let mut add = |shelf, code: &str, what: String| items.push(Item { code: code.replace('.', "-"), shelf, what });
    use Shelf::{Consumables, Instruments, Papers, Tools};
    for (model, number) in by_model(plan) {
        let (spare, name) = (spares(number, plan), &model.name);
        add(Instruments, &format!("probe-{}", model.code), format!("{number} × {name}, and {spare} spare"));
    }
    add(Instruments, "logger", plan.logger.name.clone());
    add(
        Instruments,
        "battery",
        format!("battery, {} mAh, charged, and one spare", format_short(plan.get(Figure::Battery))),
    );
    if plan.get(Figure::Panel) > 0.0 {
        add(Instruments, "panel", format!("solar panel, {} W, with bracket", format_short(plan.get(Figure::Panel))));
    }
    add(Instruments, "handheld", "handheld reader, and a reference thermometer".into());
    add(Tools, "tarp", "tarp, with places marked for piles by depth".into());
    add(Tools, "corer", "density corer of known volume, trimming knife, weighed tins with lids".into());
    add(Tools, "rule", "folding rule, spirit level, string".into());
    digging_tools(plan, dig, &mut add);
    add(Tools, "tamper", "tamper, and a balance or a pail with a mark for the mass per layer".into());
    add(Tools, "electric", "wire stripper, small screwdriver, multimeter".into());
    let conduit = (plan.get(Figure::ConduitDown) + plan.get(Figure::ConduitUp)) / 100.0 + plan.get(Figure::CableRun);
    if plan.method != Method::Buried {
        add(
            Consumables,
            "conduit",
            format!("conduit, {} m, and two bends", format_short((conduit * 1.1 * 10.0).ceil() / 10.0)),
        );
        add(Consumables, "post", "post, enclosure, gland plugs, dry bag".into());
    }
    let collar: f64 = dig.patches.iter().filter(|p| p.kind == super::digging::PatchKind::Bentonite).count() as f64;
    if collar > 0.0 {
        let area = dig.holes.first().map_or(0.0, |h| h.area_cm2);
        let litres = collar * area * plan.get(Figure::Collar) / 1000.0;
        add(Consumables, "bentonite", format!("bentonite, {} L", format_short((litres * 1.3 * 10.0).ceil() / 10.0)));
    }
    if plan.method == Method::Slurry {
        add(Consumables, "sieve", "sieve of 2 mm, water, mixing pail for slurry of the soil's own".into());
    }
    add(Consumables, "labels", format!("{} cable labels (two per cable), rings, ties, tape", plan.probes.len() * 2));
    protection(plan, &mut add);
    add(Papers, "sheet", "this field sheet and the wiring sheet, printed".into());
    add(Papers, "services", "plan of buried services, permission of the owner".into());
    if plan.method == Method::Buried {
        add(Papers, "record", "two tapes and a bearing to fixed marks: the node must be found again".into());
    }
    items
}

fn digging_tools(plan: &Plan, dig: &Dig, add: &mut impl FnMut(Shelf, &str, String)) {
    let deepest = dig.holes.iter().map(|h| h.length_cm).fold(0.0, f64::max);
    match plan.method {
        Method::Pit | Method::Recess | Method::Buried => {
            add(Shelf::Tools, "spade", "spade, pick, sod knife, kneeling board".into());
        }
        Method::ShortTrench => add(Shelf::Tools, "spade", "narrow spade, sod knife".into()),
        Method::Surface => add(Shelf::Tools, "knife", "slotting knife as wide as the blade".into()),
        Method::SideWall | Method::Straight | Method::Slanted | Method::Slurry | Method::Pipe => add(
            Shelf::Tools,
            "auger",
            format!(
                "auger of {} cm, {} cm of reach and one extension; stop it at the mark",
                format_short(plan.get(Figure::HoleDiameter)),
                format_short(deepest.ceil())
            ),
        ),
    }
    match plan.method {
        Method::Recess => add(Shelf::Tools, "bore", "level bore as wide as the probe's body".into()),
        Method::SideWall => add(Shelf::Tools, "lever", "lever tool with depth marks, lamp, mirror".into()),
        Method::Straight | Method::Slanted | Method::Slurry => {
            add(
                Shelf::Tools,
                "pusher",
                format!("pushing pipe of {} cm, marked", format_short(plan.get(Figure::PusherPipe))),
            );
        }
        Method::Pipe => {
            let cuts: Vec<String> =
                dig.set.iter().filter_map(|s| s.pipe_cut_cm).map(|c| format!("{} cm", format_short(c))).collect();
            add(Shelf::Tools, "pipes", format!("pipes cut to {}, deburred, end caps", cuts.join(", ")));
        }
        Method::Pit | Method::Surface | Method::ShortTrench | Method::Buried => {}
    }
    if plan.method == Method::Slanted {
        add(
            Shelf::Tools,
            "guide",
            format!("angle guide set to {}° from the vertical", format_short(plan.get(Figure::HoleAngle))),
        );
    }
}

fn protection(plan: &Plan, add: &mut impl FnMut(Shelf, &str, String)) {
    add(Shelf::Protection, "hands", "gloves, eye protection".into());
    if plan.hardness == Hardness::Hard || matches!(plan.method, Method::Pipe) {
        add(Shelf::Protection, "ears", "hearing protection, for the hammer".into());
    }
    if plan.method.is_bored() {
        add(Shelf::Protection, "dust", "dust mask, for dry soil and bentonite".into());
    }
    if plan.stay == Stay::Permanent || plan.fill == Fill::AtEnd {
        add(Shelf::Protection, "cover", "boards to cover an open hole: for people and for animals".into());
    }
    add(Shelf::Protection, "phone", "first-aid kit, water, phone; someone knows when you are due back".into());
}

/// Spare probes for so many of a model: a share, at least one.
fn spares(number: usize, plan: &Plan) -> usize {
    let share = plan.get(Figure::Spares) / 100.0;
    if share <= 0.0 { 0 } else { ((number as f64 * share).ceil() as usize).max(1) }
}

fn by_model(plan: &Plan) -> Vec<(&ProbeModel, usize)> {
    let mut models: Vec<(&ProbeModel, usize)> = Vec::new();
    for p in &plan.probes {
        match models.iter_mut().find(|(model, _)| model.code == p.model.code) {
            Some(entry) => entry.1 += 1,
            None => models.push((&p.model, 1)),
        }
    }
    models
}

/// A line of the costs.
#[derive(Debug, Clone, PartialEq)]
pub struct Cost {
    /// What happened, or is to be done.
    pub what: String,
    /// How many of it, in its unit; whole for pieces.
    pub number: f64,
    /// Price of one.
    pub each: f64,
}

impl Cost {
    /// Price of all.
    #[must_use]
    pub fn total(&self) -> f64 {
        self.number * self.each
    }
}

/// What the station costs, at the catalogue's prices.
#[must_use]
pub fn costs(plan: &Plan, wiring: &Wiring) -> Vec<Cost> {
    let mut costs = Vec::new();
    for (model, number) in by_model(plan) {
        let number = (number + spares(number, plan)) as f64;
        costs.push(Cost { what: model.name.clone(), number, each: model.price });
    }
    let loggers = if wiring.plugged.is_empty() { 0.0 } else { 1.0 };
    costs.push(Cost { what: plan.logger.name.clone(), number: loggers, each: plan.logger.price });
    let labour = Cost {
        what: "work to install, hours".into(),
        number: plan.get(Figure::Labour),
        each: plan.get(Figure::HourlyRate),
    };
    if labour.total() > 0.0 {
        costs.push(labour);
    }
    costs
}
