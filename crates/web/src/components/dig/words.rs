//! Words and measures of the drawing: names of depths, dimension lines, the depth scale.

use super::{Dimension, LINE, Label, Measures, SCALE_WIDTH, Scale, WIDTH, WORDS};
use ebrel_core::planning::{Assessment, Figure, Point};

/// A label for each depth on each side; several probes at one depth share it.
pub(super) fn labels(found: &Assessment, scale: &Scale, measures: Measures) -> Vec<Label> {
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
pub(super) fn dimensions(found: &Assessment, scale: &Scale, measures: Measures) -> Vec<Dimension> {
    let dig = &found.dig;
    let mut all = Vec::new();
    for (i, hole) in dig.holes.iter().enumerate() {
        let (a, b) = (hole.outline[1], hole.outline[2]);
        let (x0, y0) = scale.at(a);
        let (x1, y1) = scale.at(b);
        let y = y0.max(y1) + 12.0;
        if hole.angle_deg == 0.0 && i == 0 {
            let text = if found.plan.method.is_bored() {
                format!("⌀ {}", measures.show(b.0 - a.0))
            } else {
                measures.show((b.0 - a.0).abs())
            };
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
        let y = f64::midpoint(fy, uy);
        // Two strokes across a post that is higher than it is drawn.
        let cut = if dig.post_cut {
            format!("M{:.1} {:.1}l12 -5M{:.1} {:.1}l12 -5", fx - 6.0, y + 1.0, fx - 6.0, y + 6.0)
        } else {
            String::new()
        };
        let up = measures.show(found.plan.get(Figure::ConduitUp));
        all.push(Dimension { path: cut, x: fx + 9.0, y: y + 5.0, anchor: "start", text: format!("{up} up") });
        let down = measures.show(found.plan.get(Figure::ConduitDown));
        let (x, y, anchor) =
            if found.plan.method.shares_hole() { (dx, dy + 13.0, "middle") } else { (dx - 8.0, fy - 12.0, "end") };
        all.push(Dimension { path: String::new(), x, y, anchor, text: format!("{down} in") });
    }
    all
}

pub(super) fn ticks(scale: &Scale, deep: f64, measures: Measures) -> Vec<(f64, String)> {
    let unit = if measures == Measures::Inches { 2.54 } else { 1.0 };
    let steps = [1.0, 2.0, 5.0, 10.0, 20.0, 50.0, 100.0];
    let step = steps.into_iter().find(|s| s * unit * scale.per_cm > 26.0).unwrap_or(200.0);
    (0..)
        .map(|i| f64::from(i) * step)
        .take_while(|v| v * unit < deep)
        .map(|v| (scale.at((0.0, v * unit)).1, v.to_string()))
        .collect()
}
