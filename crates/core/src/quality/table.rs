//! The table of tests: what each is. From it pages, command line and help are made.

use super::{
    Definition, Test, burst, clock, conditions, exchange, gap, handling, heat, instrument, misses, order, pair,
    reference, repeated, rise, spike, step, stuck, sunlit, supply, wiggle,
};

impl Test {
    /// What this test is.
    ///
    /// ```
    /// use ebrel_core::quality::Test;
    /// let spike = Test::Spike.definition();
    /// assert_eq!((spike.title, spike.mark), ("Spike", "S"));
    /// assert!(spike.settings.iter().any(|s| s.key == "sigmas" && s.default == 8.0));
    /// ```
    #[must_use]
    pub const fn definition(self) -> &'static Definition {
        match self {
            Self::Gap => &gap::DEFINITION,
            Self::Repeated => &repeated::DEFINITION,
            Self::NotConnected => &instrument::NOT_CONNECTED,
            Self::OutOfInstrument => &instrument::OUT_OF_INSTRUMENT,
            Self::Impossible => &conditions::IMPOSSIBLE,
            Self::Ponded => &conditions::PONDED,
            Self::Frozen => &conditions::FROZEN,
            Self::Spike => &spike::DEFINITION,
            Self::Step => &step::DEFINITION,
            Self::Stuck => &stuck::DEFINITION,
            Self::Settling => &handling::SETTLING,
            Self::Visit => &handling::VISIT,
            Self::Late => &clock::LATE,
            Self::Clock => &clock::CLOCK,
            Self::Noise => &burst::DEFINITION,
            Self::RiseWithoutWater => &rise::DEFINITION,
            Self::MissesRain => &misses::DEFINITION,
            Self::WetsOutOfOrder => &order::DEFINITION,
            Self::DailyWiggle => &wiggle::DEFINITION,
            Self::HeatMisorder => &heat::DEFINITION,
            Self::PairApart => &pair::DEFINITION,
            Self::ReferenceApart => &reference::DEFINITION,
            Self::SunlitAir => &sunlit::DEFINITION,
            Self::LowPower => &supply::LOW_POWER,
            Self::WetBox => &supply::WET_BOX,
            Self::SwappedPorts => &exchange::DEFINITION,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    #[test]
    fn marks_and_titles_tell_the_tests_apart_and_defaults_are_legal() {
        let marks: BTreeSet<&str> = Test::ALL.iter().map(|t| t.definition().mark).collect();
        let titles: BTreeSet<&str> = Test::ALL.iter().map(|t| t.definition().title).collect();
        assert_eq!((marks.len(), titles.len()), (Test::ALL.len(), Test::ALL.len()));
        for test in Test::ALL {
            let d = test.definition();
            assert!((1..=2).contains(&d.mark.chars().count()) && d.finds.ends_with('.'), "{test:?}");
            for s in d.settings {
                assert!(s.range.check(s.default).is_ok() && s.meaning.len() > 10, "{test:?} {}", s.key);
            }
        }
    }
}
