//! Thermometers: what their signals mean, and whether two of them agree.

mod check;
mod conversion;
mod correction;
mod platinum;
mod sun_test;
mod thermistor;
mod thermocouple;

pub use check::{Agreement, Claims, Correction, Pattern, TemperatureCheck, agreement, check};
pub use conversion::{Converted, ReadingUncertainty, platinum_convert};
pub use correction::{DatedCorrection, corrected};
pub use platinum::{ToleranceClass, platinum_resistance, platinum_slope, platinum_temperature};
pub use sun_test::{Group, SunPair, SunTest, sun_test};
pub use thermistor::{Beta, SteinhartHart};
pub use thermocouple::Thermocouple;
