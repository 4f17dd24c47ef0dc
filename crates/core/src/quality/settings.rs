//! The numbers that the tests go by. They are counts of a record's own noise, steps and wiggles wherever they can be.

use super::burst::NoiseSettings;
use super::clock::ClockSettings;
use super::conditions::{FrozenSettings, ImpossibleSettings, PondedSettings};
use super::exchange::SwapSettings;
use super::gap::GapSettings;
use super::heat::HeatSettings;
use super::misses::MissesRainSettings;
use super::order::OrderSettings;
use super::pair::PairSettings;
use super::reference::ReferenceSettings;
use super::rise::RiseSettings;
use super::spike::SpikeSettings;
use super::step::StepSettings;
use super::stuck::StuckSettings;
use super::sunlit::SunlitSettings;
use super::supply::{LowPowerSettings, WetBoxSettings};
use super::wiggle::WiggleSettings;
use super::{Setting, Test};
use serde::{Deserialize, Serialize};
use thiserror::Error;

/// The settings of all tests that have any, by test.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Settings {
    /// When readings are missing.
    pub gap: GapSettings,
    /// What no soil can hold.
    pub impossible: ImpossibleSettings,
    /// When water stands around a probe.
    pub ponded: PondedSettings,
    /// When soil counts as freezing.
    pub frozen: FrozenSettings,
    /// What is away and back.
    pub spike: SpikeSettings,
    /// What jumps and stays.
    pub step: StepSettings,
    /// What stands still.
    pub stuck: StuckSettings,
    /// When a clock is wrong.
    pub clock: ClockSettings,
    /// When a record is noisy.
    pub noise: NoiseSettings,
    /// When a rise has no cause.
    pub rise_without_water: RiseSettings,
    /// When a rain is missed.
    pub misses_rain: MissesRainSettings,
    /// When depths wet out of order.
    pub wets_out_of_order: OrderSettings,
    /// When temperature shows in water content.
    pub daily_wiggle: WiggleSettings,
    /// When the order of heat is upside down.
    pub heat_misorder: HeatSettings,
    /// When twins are apart.
    pub pair_apart: PairSettings,
    /// When a record contradicts a reference.
    pub reference_apart: ReferenceSettings,
    /// When air is sunlit.
    pub sunlit_air: SunlitSettings,
    /// When a supply runs down.
    pub low_power: LowPowerSettings,
    /// When water is in the box.
    pub wet_box: WetBoxSettings,
    /// When two ports are exchanged.
    pub swapped_ports: SwapSettings,
}

/// Why a number was not set.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum SettingError {
    /// The test has no setting of that name.
    #[error("{test} has no setting “{key}”; it has: {known}")]
    Unknown {
        /// Title of the test.
        test: &'static str,
        /// The key as given.
        key: String,
        /// The keys that it has.
        known: String,
    },
    /// The number is not one that it may take.
    #[error("{0}")]
    Range(#[from] crate::units::OutOfRange),
}

impl Settings {
    fn at(&mut self, test: Test, key: &str) -> Option<&mut f64> {
        match test {
            Test::Gap => self.gap.at(key),
            Test::Impossible => self.impossible.at(key),
            Test::Ponded => self.ponded.at(key),
            Test::Frozen => self.frozen.at(key),
            Test::Spike => self.spike.at(key),
            Test::Step => self.step.at(key),
            Test::Stuck => self.stuck.at(key),
            Test::Clock => self.clock.at(key),
            Test::Noise => self.noise.at(key),
            Test::RiseWithoutWater => self.rise_without_water.at(key),
            Test::MissesRain => self.misses_rain.at(key),
            Test::WetsOutOfOrder => self.wets_out_of_order.at(key),
            Test::DailyWiggle => self.daily_wiggle.at(key),
            Test::HeatMisorder => self.heat_misorder.at(key),
            Test::PairApart => self.pair_apart.at(key),
            Test::ReferenceApart => self.reference_apart.at(key),
            Test::SunlitAir => self.sunlit_air.at(key),
            Test::LowPower => self.low_power.at(key),
            Test::WetBox => self.wet_box.at(key),
            Test::SwappedPorts => self.swapped_ports.at(key),
            Test::Late | Test::Repeated | Test::NotConnected | Test::OutOfInstrument | Test::Settling | Test::Visit => {
                None
            }
        }
    }

    /// The value that stands for a setting of a test.
    #[must_use]
    pub fn get(mut self, test: Test, key: &str) -> Option<f64> {
        self.at(test, key).map(|v| *v)
    }

    /// Sets one number.
    ///
    /// ```
    /// use ebrel_core::quality::{Settings, Test};
    /// let mut settings = Settings::default();
    /// settings.set(Test::Spike, "sigmas", 12.0).unwrap();
    /// assert_eq!(settings.spike.sigmas, 12.0);
    /// assert!(settings.set(Test::Spike, "sigmas", 0.0).is_err(), "everything would be a spike");
    /// ```
    ///
    /// # Errors
    /// [`SettingError`] if the test has no such setting, or the number lies outside its range; nothing changes then.
    pub fn set(&mut self, test: Test, key: &str, value: f64) -> Result<(), SettingError> {
        let definition = test.definition();
        let unknown = || SettingError::Unknown {
            test: definition.title,
            key: key.to_owned(),
            known: definition.settings.iter().map(|s| s.key).collect::<Vec<_>>().join(", "),
        };
        let setting: &Setting = definition.settings.iter().find(|s| s.key == key).ok_or_else(unknown)?;
        let value = setting.range.check(value)?;
        *self.at(test, key).ok_or_else(unknown)? = value;
        Ok(())
    }

    /// Checks numbers that came from a file.
    ///
    /// # Errors
    /// [`SettingError`] for the first number outside its range.
    pub fn checked(self) -> Result<Self, SettingError> {
        for test in Test::ALL {
            for setting in test.definition().settings {
                setting.range.check(self.get(*test, setting.key).unwrap_or(setting.default))?;
            }
        }
        Ok(self)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_listed_setting_can_be_read_and_set_and_no_other() {
        let mut settings = Settings::default();
        for test in Test::ALL {
            for s in test.definition().settings {
                assert_eq!(settings.get(*test, s.key), Some(s.default), "{test:?} {}", s.key);
                settings.set(*test, s.key, s.range.max).unwrap();
                assert_eq!(settings.get(*test, s.key), Some(s.range.max));
                assert!(settings.set(*test, s.key, s.range.max * 2.0 + 1.0).is_err());
                assert!(settings.set(*test, s.key, f64::NAN).is_err());
                assert_eq!(settings.get(*test, s.key), Some(s.range.max), "a refused number changes nothing");
            }
        }
        let unknown = settings.set(Test::Gap, "sigmas", 3.0).unwrap_err().to_string();
        assert_eq!(unknown, "Gap has no setting “sigmas”; it has: intervals");
    }

    #[test]
    fn a_file_names_only_what_it_changes() {
        let some: Settings = serde_json::from_str(r#"{"spike": {"sigmas": 60}}"#).unwrap();
        assert_eq!(some.spike.sigmas, 60.0);
        assert_eq!(some.stuck, StuckSettings::default());
        let wrong = serde_json::from_str::<Settings>(r#"{"sigmas": 60}"#).unwrap_err().to_string();
        assert!(wrong.contains("unknown field `sigmas`, expected one of `gap`"), "{wrong}");
        let mut far = Settings::default();
        far.gap.intervals = 0.2;
        assert!(far.checked().is_err());
    }
}
