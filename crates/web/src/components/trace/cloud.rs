//! Points of one measure against another, drawn by the server beside the lines of a finding.

use super::{BOTTOM, LEFT, RIGHT, TOP, ticks};
use ebrel_core::units::format_value;

/// A point that is to be drawn.
pub struct Point {
    pub x: f64,
    pub y: f64,
    /// Its name, if it has one.
    pub name: String,
    /// Whether it is the one that is spoken of.
    pub own: bool,
}

impl Point {
    /// One of many.
    pub fn plain(x: f64, y: f64) -> Self {
        Self { x, y, name: String::new(), own: false }
    }
}

/// What the axes are.
pub struct Axes {
    /// Name and unit of the measure along the bottom, and of the one along the side.
    pub x: String,
    pub y: String,
    /// Whether the side counts downwards, as depth does.
    pub down: bool,
    /// A line through the cloud: its height at x = 0, and its slope.
    pub line: Option<(f64, f64)>,
    /// What it shows, for those who do not see it.
    pub words: String,
}

/// A point as drawn.
pub struct Drawn {
    pub x: f64,
    pub y: f64,
    pub name: String,
    pub own: bool,
    /// Whether its name stands on its left.
    pub left: bool,
}

/// A drawing.
pub struct Cloud {
    pub points: Vec<Drawn>,
    pub x_ticks: Vec<(f64, String)>,
    pub y_ticks: Vec<(f64, String)>,
    /// Ends of the line: x1, y1, x2, y2.
    pub line: Option<(f64, f64, f64, f64)>,
    pub x: String,
    pub y: String,
    pub words: String,
}

/// More points than these say no more.
const MOST: usize = 700;

/// Draws points; `None` without two of them. Of very many every so manieth is drawn.
pub fn cloud(points: Vec<Point>, axes: Axes) -> Option<Cloud> {
    let every = points.len().div_ceil(MOST).max(1);
    let shown: Vec<Point> = points.into_iter().step_by(every).filter(|p| p.x.is_finite() && p.y.is_finite()).collect();
    if shown.len() < 2 {
        return None;
    }
    let range = |of: fn(&Point) -> f64| {
        let low = shown.iter().map(of).fold(f64::INFINITY, f64::min);
        let high = shown.iter().map(of).fold(f64::NEG_INFINITY, f64::max);
        let margin = ((high - low) * 0.08).max(high.abs().max(low.abs()).max(1e-6) * 1e-3);
        (low - margin, high + margin)
    };
    let ((x0, x1), (y0, y1)) = (range(|p| p.x), range(|p| p.y));
    let x = |v: f64| LEFT + (v - x0) / (x1 - x0) * (RIGHT - LEFT);
    let y = |v: f64| {
        let share = (v - y0) / (y1 - y0);
        if axes.down { TOP + share * (BOTTOM - TOP) } else { BOTTOM - share * (BOTTOM - TOP) }
    };
    let worded = |(v, decimals): (f64, usize)| format_value(v, decimals);
    let line = axes.line.map(|(at, slope)| {
        let height = |v: f64| (at + slope * v).clamp(y0, y1);
        (LEFT, y(height(x0)), RIGHT, y(height(x1)))
    });
    Some(Cloud {
        points: shown
            .iter()
            .map(|p| Drawn { x: x(p.x), y: y(p.y), name: p.name.clone(), own: p.own, left: x(p.x) > 0.8 * RIGHT })
            .collect(),
        x_ticks: ticks(x0, x1, 6.0).into_iter().map(|t| (x(t.0), worded(t))).collect(),
        y_ticks: ticks(y0, y1, 5.0).into_iter().map(|t| (y(t.0), worded(t))).collect(),
        line,
        x: axes.x,
        y: axes.y,
        words: axes.words,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn axes(down: bool) -> Axes {
        Axes { x: "K".into(), y: "cm".into(), down, line: Some((0.0, 2.0)), words: "θ".into() }
    }

    #[test]
    fn points_lie_within_the_frame_and_depth_counts_downwards() {
        let points = || vec![Point::plain(0.0, 5.0), Point::plain(4.0, 50.0), Point::plain(f64::NAN, 1.0)];
        let up = cloud(points(), axes(false)).unwrap();
        let down = cloud(points(), axes(true)).unwrap();
        assert_eq!((up.points.len(), down.points.len()), (2, 2), "what is no number is no point");
        assert!(up.points[0].y > up.points[1].y && down.points[0].y < down.points[1].y);
        for p in up.points.iter().chain(&down.points) {
            assert!((LEFT..=RIGHT).contains(&p.x) && (TOP..=BOTTOM).contains(&p.y));
        }
        let (_, a, _, b) = up.line.unwrap();
        assert!((TOP..=BOTTOM).contains(&a) && (TOP..=BOTTOM).contains(&b));
    }

    #[test]
    fn equal_points_many_points_and_none_are_drawn_or_said() {
        let same = cloud(vec![Point::plain(1.0, 1.0), Point::plain(1.0, 1.0)], axes(false)).unwrap();
        assert!(same.points.iter().all(|p| p.x.is_finite() && p.y.is_finite()) && same.x_ticks.len() < 20);
        let many = (0..10_000).map(|i| Point::plain(f64::from(i), 0.5)).collect();
        assert!(cloud(many, axes(false)).unwrap().points.len() <= MOST);
        assert!(cloud(vec![Point::plain(1.0, 1.0)], axes(false)).is_none() && cloud(Vec::new(), axes(false)).is_none());
    }
}
