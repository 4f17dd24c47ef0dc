//! How much cable a probe needs.

/// The way of one cable, all in m.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct CableRun {
    /// Up the hole.
    pub hole_m: f64,
    /// Along the ground to the post.
    pub run_m: f64,
    /// Up the post.
    pub rise_m: f64,
    /// The slack loop under the enclosure.
    pub loop_m: f64,
}

/// What a set of cables adds up to, m.
#[derive(Debug, Clone, PartialEq)]
pub struct CableSum {
    /// Need of each.
    pub needed_m: Vec<f64>,
    /// Each rounded up to the stock's step.
    pub cut_m: Vec<f64>,
    /// Sum of the needs.
    pub total_needed_m: f64,
    /// Sum of the cuts.
    pub total_cut_m: f64,
}

/// Need of each cable with `slack` (a fraction) on top, and what is cut from stock sold in steps of `step_m`.
///
/// need = (hole + run + rise + loop)(1 + slack); each is rounded up by itself, then summed. Definition.
/// Worked value: 0.45 m down, 3 m along, 1.5 m up and a loop of 0.3 m with 10 % slack need 5.775 m.
#[must_use]
pub fn cable_sum(runs: &[CableRun], slack: f64, step_m: f64) -> CableSum {
    let needed_m: Vec<f64> = runs.iter().map(|r| (r.hole_m + r.run_m + r.rise_m + r.loop_m) * (1.0 + slack)).collect();
    // A hair of rounding must not cost a whole step.
    let cut_m: Vec<f64> = needed_m.iter().map(|n| (n / step_m - 1e-9).ceil() * step_m).collect();
    CableSum { total_needed_m: needed_m.iter().sum(), total_cut_m: cut_m.iter().sum(), needed_m, cut_m }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::statistics::testing::assert_close;

    #[test]
    fn cables_of_the_reference() {
        let run = |hole_m, run_m, rise_m, loop_m| CableRun { hole_m, run_m, rise_m, loop_m };
        let two = cable_sum(&[run(0.45, 3.0, 1.5, 0.3), run(0.85, 4.2, 1.5, 0.3)], 0.1, 1.0);
        assert_close(two.needed_m[0], 5.775, 1e-11);
        assert_close(two.total_needed_m, 13.31, 1e-11);
        assert_eq!(two.cut_m, [6.0, 8.0]);
        let runs = [run(0.3, 6.0, 2.0, 0.25), run(0.6, 6.0, 2.0, 0.25), run(0.9, 8.0, 2.0, 0.25)];
        let three = cable_sum(&runs, 0.05, 2.5);
        assert_eq!(three.cut_m, [10.0, 10.0, 12.5]);
        assert_close(three.total_needed_m, 29.9775, 1e-11);
        assert_eq!(cable_sum(&[run(2.0, 0.0, 0.0, 0.0)], 0.0, 1.0).cut_m, [2.0]);
    }
}
