//! Mean current, derating and battery life.

/// One active phase of a node's cycle.
pub type Phase = (f64, f64);

/// Mean current in mA of a node that sleeps at `sleep_ma` and in each period of `period_s` seconds is active in
/// `phases` of (mA, s).
///
/// I = Is + Σ (Ik − Is) tk/T: time average, with the sleep current taken off while it is awake.
/// Worked value: 0.02 mA asleep, 10 mA for 0.5 s and 120 mA for 1.2 s every 900 s: 0.18552 mA.
#[must_use]
pub fn average_current(sleep_ma: f64, phases: &[Phase], period_s: f64) -> f64 {
    sleep_ma + phases.iter().map(|(ma, s)| (ma - sleep_ma) * s / period_s).sum::<f64>()
}

/// Part of a battery's capacity left at a temperature: piecewise linear in a table of (°C, factor), held at its ends.
///
/// Worked value: between 0.8 at 0 °C and 1 at 25 °C, 10 °C gives 0.88.
#[must_use]
pub fn derating(table: &[(f64, f64)], celsius: f64) -> f64 {
    let Some(&(first, factor)) = table.first() else { return 1.0 };
    if celsius <= first {
        return factor;
    }
    let within = table.windows(2).find(|w| celsius <= w[1].0);
    within.map_or_else(
        || table[table.len() - 1].1,
        |w| w[0].1 + (w[1].1 - w[0].1) * (celsius - w[0].0) / (w[1].0 - w[0].0),
    )
}

/// How a battery loses charge by itself: this fraction in so many days.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SelfDischarge {
    /// Fraction lost, 0 to below 1.
    pub fraction: f64,
    /// Days in which it is lost.
    pub period_days: f64,
}

/// Days that a charge of `usable_mah` carries a mean current of `mean_ma`, with exponential self-discharge.
///
/// dQ/dt = −24 I − λQ with λ = −ln(1−s)/P: days = ln(1 + λQ/(24 I))/λ, and Q/(24 I) without self-discharge.
/// Worked value: 7000 mAh of which 0.72 is usable, 0.6 mA, 3 % in 30 days: 299.48 days.
/// `None` if nothing is drawn and nothing lost: it lasts for ever on paper.
#[must_use]
pub fn battery_days(usable_mah: f64, mean_ma: f64, loss: SelfDischarge) -> Option<f64> {
    let per_day = -(1.0 - loss.fraction).ln() / loss.period_days;
    let daily = 24.0 * mean_ma;
    if daily <= 0.0 {
        return None;
    }
    Some(if per_day > 0.0 { (per_day * usable_mah / daily).ln_1p() / per_day } else { usable_mah / daily })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::statistics::testing::assert_close;

    #[test]
    fn currents_of_the_reference() {
        assert_close(average_current(0.02, &[(10.0, 0.5), (120.0, 1.2)], 900.0), 0.185_517_777_778, 1e-11);
        assert_close(average_current(0.009, &[(18.0, 1.1), (33.0, 0.25)], 1800.0), 0.024_576_583_333_3, 1e-11);
    }

    #[test]
    fn batteries_of_the_reference() {
        let loss = SelfDischarge { fraction: 0.03, period_days: 30.0 };
        assert_close(battery_days(7000.0 * 0.8 * 0.9, 0.6, loss).unwrap(), 299.481_067_045, 1e-10);
        let slow = SelfDischarge { fraction: 0.01, period_days: 365.25 };
        assert_close(battery_days(19_000.0 * 0.85, 0.05, slow).unwrap(), 11_449.462_255_9, 1e-10);
        let none = SelfDischarge { fraction: 0.0, period_days: 30.0 };
        assert_close(battery_days(2400.0, 1.0, none).unwrap(), 100.0, 1e-12);
        assert_eq!(battery_days(0.0, 1.0, loss), Some(0.0));
        assert_eq!(battery_days(100.0, 0.0, none), None);
    }

    #[test]
    fn derating_holds_at_its_ends() {
        let table = [(-20.0, 0.5), (0.0, 0.8), (25.0, 1.0), (40.0, 1.02)];
        assert_close(derating(&table, 10.0), 0.88, 1e-11);
        assert_eq!(derating(&table, -25.0), 0.5);
        assert_eq!(derating(&table, 60.0), 1.02);
    }
}
