//! Lines of a few channels over a stretch of time, drawn by the server: what convinces, beside a finding or a mend.

mod cloud;

pub use cloud::{Axes, Cloud, Point, cloud};

use ebrel_core::quality::Reference;
use ebrel_core::series::{View, Window, thin};
use ebrel_core::units::{SpanSeconds, UnixSeconds, format_value};
use std::fmt::Write as _;

/// Width and height of the drawing, and the frame within it.
const WIDTH: f64 = 560.0;
const HEIGHT: f64 = 220.0;
const LEFT: f64 = 52.0;
const RIGHT: f64 = 548.0;
const TOP: f64 = 12.0;
const BOTTOM: f64 = 190.0;
/// Readings of more columns than this show no more.
const COLUMNS: usize = 480;

/// A line that is to be drawn.
pub struct Source<'v> {
    /// What it is called at its end.
    pub name: String,
    /// Its readings, values as shown.
    pub view: View<'v>,
    /// Which of the dashes tells it from the others, from 0.
    pub dash: usize,
}

/// A line as drawn.
pub struct Line {
    pub path: String,
    pub class: String,
    pub name: String,
    pub y: f64,
}

/// A drawing.
pub struct Trace {
    pub lines: Vec<Line>,
    /// Heights and words of the grid.
    pub y_ticks: Vec<(f64, String)>,
    /// Places and words of the time axis.
    pub x_ticks: Vec<(f64, String)>,
    /// From where to where it is shaded.
    pub shade: Option<(f64, f64)>,
    /// Outlines of the band around a line; empty without one.
    pub band: String,
    /// Where rings stand.
    pub rings: Vec<(f64, f64)>,
    /// What the numbers are.
    pub unit: String,
    /// What it shows, for those who do not see it.
    pub words: String,
}

/// What is drawn, beside the lines.
pub struct Frame<'f> {
    /// First and last moment.
    pub span: (UnixSeconds, UnixSeconds),
    /// The stretch that is meant.
    pub shade: Option<(UnixSeconds, UnixSeconds)>,
    /// Words for a moment, by its pattern.
    pub when: &'f dyn Fn(UnixSeconds, &str) -> String,
    /// Unit of the values, as people write it.
    pub unit: String,
    /// What it shows.
    pub words: String,
    /// Lower and upper end of a band that lies behind the lines.
    pub band: Option<(View<'f>, View<'f>)>,
    /// What was measured by hand: a ring each.
    pub by_hand: &'f [Reference],
}

/// Round numbers within a range, about `most` of them at most, each with its decimals.
pub fn ticks(low: f64, high: f64, most: f64) -> Vec<(f64, usize)> {
    let rough = (high - low) / most;
    let power = 10f64.powf(rough.log10().floor());
    let step = [1.0, 2.0, 5.0, 10.0].into_iter().map(|m| m * power).find(|s| *s >= rough).unwrap_or(rough);
    let decimals = (-step.log10() + 1e-9).ceil().max(0.0) as usize;
    let first = (low / step).ceil() as i64;
    (first..).map(|i| i as f64 * step).take_while(|v| *v <= high).map(|v| (v, decimals)).take(20).collect()
}

/// Draws lines; `None` if none of them has a reading there.
pub fn draw(sources: &[Source<'_>], frame: Frame<'_>) -> Option<Trace> {
    let (from, to) = (frame.span.0, frame.span.1 + SpanSeconds(1));
    let window = Window::new(from, to, COLUMNS).ok()?;
    let columns: Vec<_> = sources.iter().map(|s| thin(s.view, &window, |v| v)).collect();
    let ends = frame.band.map(|(low, high)| (thin(low, &window, |v| v), thin(high, &window, |v| v)));
    let finite = |v: &&f64| v.is_finite();
    let all = || columns.iter().chain(ends.iter().flat_map(|(a, b)| [a, b]));
    let low = all().flat_map(|c| c.min.iter().filter(finite)).copied().fold(f64::INFINITY, f64::min);
    let high = all().flat_map(|c| c.max.iter().filter(finite)).copied().fold(f64::NEG_INFINITY, f64::max);
    if !low.is_finite() {
        return None;
    }
    let rings = || frame.by_hand.iter().filter(|r| from <= r.time && r.time < to && r.value.is_finite());
    let (low, high) = rings().fold((low, high), |(low, high), r| (low.min(r.value), high.max(r.value)));
    let margin = ((high - low) * 0.06).max(high.abs().max(1e-6) * 1e-3);
    let (low, high) = (low - margin, high + margin);
    let y = |v: f64| BOTTOM - (v - low) / (high - low) * (BOTTOM - TOP);
    let x = |t: i64| LEFT + (t - from.0) as f64 / (to.0 - from.0) as f64 * (RIGHT - LEFT);
    let line = |source: &Source<'_>, c: &ebrel_core::series::Columns| {
        let mut path = String::new();
        // Readings may stand farther apart than columns: only a silence lifts the pen.
        let column = (to.0 - from.0) as f64 / COLUMNS as f64;
        let silence = (2.5 * source.view.usual_interval().unwrap_or(0) as f64 / column).ceil() as usize + 1;
        let (mut pen, mut last, mut drawn) = (false, BOTTOM, 0);
        for i in 0..COLUMNS {
            if c.count[i] == 0 {
                continue;
            }
            pen = pen && i - drawn <= silence;
            drawn = i;
            let at = LEFT + (i as f64 + 0.5) / COLUMNS as f64 * (RIGHT - LEFT);
            // Of a column with many readings both ends are shown.
            let _ = write!(path, "{}{at:.1} {:.1}", if pen { "L" } else { "M" }, y(c.min[i]));
            if c.max[i] > c.min[i] {
                let _ = write!(path, "V{:.1}", y(c.max[i]));
            }
            (pen, last) = (true, y(c.mean[i]));
        }
        Line { path, class: format!("line d{}", source.dash % 4), name: source.name.clone(), y: last }
    };
    let mut lines: Vec<Line> = sources.iter().zip(&columns).map(|(s, c)| line(s, c)).collect();
    apart(&mut lines);
    let y_ticks = ticks(low, high, 5.0).into_iter().map(|(v, decimals)| (y(v), format_value(v, decimals))).collect();
    let span = to.0 - from.0;
    let form = if span > 3 * SpanSeconds::DAY.0 { "%-d %b %Y" } else { "%-d %b %H:%M" };
    let x_ticks = (0..4).map(|k| from.0 + span * (2 * k + 1) / 8).map(|t| (x(t), (frame.when)(UnixSeconds(t), form)));
    let inside = |t: UnixSeconds| x(t.0).clamp(LEFT, RIGHT);
    Some(Trace {
        lines,
        y_ticks,
        x_ticks: x_ticks.collect(),
        rings: rings().map(|r| (x(r.time.0), y(r.value))).collect(),
        band: ends.map_or_else(String::new, |(low, high)| band(&low.min, &high.max, y)),
        shade: frame.shade.map(|(a, b)| (inside(a), (inside(b) - inside(a)).max(1.5))),
        unit: frame.unit,
        words: frame.words,
    })
}

/// Outlines of a band, one for each stretch of columns that have both ends.
fn band(low: &[f64], high: &[f64], y: impl Fn(f64) -> f64) -> String {
    let mut path = String::new();
    let x = |i: usize| LEFT + (i as f64 + 0.5) / COLUMNS as f64 * (RIGHT - LEFT);
    let known = |i: &usize| low[*i].is_finite() && high[*i].is_finite();
    let mut i = 0;
    while i < COLUMNS {
        let end = (i..COLUMNS).find(|k| !known(k)).unwrap_or(COLUMNS);
        if end > i + 1 {
            for (k, column) in (i..end).enumerate() {
                let _ = write!(path, "{}{:.1} {:.1}", if k == 0 { "M" } else { "L" }, x(column), y(high[column]));
            }
            for column in (i..end).rev() {
                let _ = write!(path, "L{:.1} {:.1}", x(column), y(low[column]));
            }
            path.push('Z');
        }
        i = end + 1;
    }
    path
}

/// Moves names at the ends of lines so far apart that each can be read.
fn apart(lines: &mut [Line]) {
    const LEAST: f64 = 13.0;
    let mut order: Vec<usize> = (0..lines.len()).collect();
    order.sort_by(|a, b| lines[*a].y.total_cmp(&lines[*b].y));
    let mut above = f64::NEG_INFINITY;
    for i in order {
        lines[i].y = (lines[i].y + 4.0).max(above + LEAST).min(BOTTOM + 4.0);
        above = lines[i].y;
    }
}

/// The drawing's size, for the template.
impl Trace {
    pub const fn size(&self) -> (f64, f64) {
        (WIDTH, HEIGHT)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn frame(words: &str) -> Frame<'static> {
        Frame {
            span: (UnixSeconds(0), UnixSeconds(9000)),
            shade: Some((UnixSeconds(3000), UnixSeconds(6000))),
            when: &|t, _| t.0.to_string(),
            unit: "m³/m³".into(),
            words: words.into(),
            band: None,
            by_hand: &[],
        }
    }

    #[test]
    fn a_line_breaks_where_nothing_was_measured_and_nothing_draws_nothing() {
        let (times, values) = ([0, 900, 1800, 2700, 8100], [0.1, 0.2, 0.15, 0.3, 0.3]);
        let view = View { times: &times, values: &values };
        let trace = draw(&[Source { name: "5 cm".into(), view, dash: 0 }], frame("moisture")).unwrap();
        assert!(trace.lines[0].path.starts_with('M') && trace.lines[0].path.matches('M').count() == 2);
        assert!(trace.y_ticks.len() >= 3 && trace.y_ticks.iter().all(|(y, _)| (TOP..=BOTTOM).contains(y)));
        let (x, wide) = trace.shade.unwrap();
        assert!(x > LEFT && x + wide < RIGHT);
        let none = View { times: &[], values: &[] };
        assert!(draw(&[Source { name: String::new(), view: none, dash: 0 }], frame("")).is_none());
        let flat = View { times: &times, values: &[0.2; 5] };
        assert!(
            draw(&[Source { name: String::new(), view: flat, dash: 0 }], frame("")).is_some(),
            "equal values are drawn"
        );
    }

    #[test]
    fn what_was_measured_by_hand_is_a_ring_within_the_drawing() {
        let (times, values) = ([0, 900, 1800], [0.1, 0.2, 0.15]);
        let at = |t, value| Reference { time: UnixSeconds(t), value, uncertainty: None };
        let by_hand = [at(-1, 0.1), at(4500, 0.9), at(9000, 0.12), at(9001, 0.1), at(100, f64::NAN)];
        let source = Source { name: String::new(), view: View { times: &times, values: &values }, dash: 0 };
        let trace = draw(&[source], Frame { by_hand: &by_hand, ..frame("") }).unwrap();
        assert_eq!(trace.rings.len(), 2, "those of the stretch, its last second too");
        assert!(trace.rings.iter().all(|(x, y)| (LEFT..=RIGHT).contains(x) && (TOP..=BOTTOM).contains(y)));
        assert!(trace.rings[0].1 < trace.rings[1].1, "0.9 stands above 0.12");
    }

    #[test]
    fn a_band_lies_around_its_line_and_is_parted_by_gaps() {
        let times: Vec<i64> = (0..100).map(|i| i * 90).filter(|t| !(4000..5000).contains(t)).collect();
        let mean = vec![2.0; times.len()];
        let view = |values| View { times: &times, values };
        let dense: Vec<i64> = (0..900).map(|i| i * 10).filter(|t| !(4000..5000).contains(t)).collect();
        let ends = (vec![1.0; dense.len()], vec![3.0; dense.len()]);
        let of = |values| View { times: &dense, values };
        let with = Frame { band: Some((of(&ends.0[..]), of(&ends.1[..]))), ..frame("storage") };
        let drawn = draw(&[Source { name: "stored".into(), view: view(&mean), dash: 0 }], with).unwrap();
        assert_eq!(drawn.band.matches('Z').count(), 2);
        assert!(drawn.y_ticks.iter().any(|t| t.1 == "1.0") && drawn.y_ticks.iter().any(|t| t.1 == "3.0"));
    }

    #[test]
    fn ticks_are_round_numbers() {
        let at: Vec<f64> = ticks(812.0, 1866.0, 7.0).into_iter().map(|t| t.0).collect();
        assert_eq!(at, [1000.0, 1200.0, 1400.0, 1600.0, 1800.0]);
    }
}
