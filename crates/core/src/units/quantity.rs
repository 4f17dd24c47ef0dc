//! What a channel measures, by which principle, and how a flag is graded. The codes are those of the
//! record package.

use serde::{Deserialize, Serialize};

macro_rules! coded {
    ($(#[$doc:meta])* $name:ident { $($(#[$vdoc:meta])* $variant:ident = $code:literal),+ $(,)? }) => {
        $(#[$doc])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
        pub enum $name {
            $($(#[$vdoc])* #[serde(rename = $code)] $variant),+
        }

        impl $name {
            /// Every variant, in the order of the record package.
            pub const ALL: &'static [Self] = &[$(Self::$variant),+];

            /// The code that files and the database use.
            #[must_use]
            pub const fn code(self) -> &'static str {
                match self { $(Self::$variant => $code),+ }
            }

            /// The variant with this code, if there is one.
            #[must_use]
            pub fn from_code(code: &str) -> Option<Self> {
                match code { $($code => Some(Self::$variant),)+ _ => None }
            }
        }
    };
}
pub(crate) use coded;

coded!(
    /// What a channel measures.
    Quantity {
        /// Volumetric water content, m³/m³.
        WaterContent = "water_content",
        /// Soil water tension, kPa.
        WaterTension = "water_tension",
        /// Soil temperature, °C.
        SoilTemperature = "soil_temperature",
        /// Air temperature in a radiation shield, °C.
        AirTemperature = "air_temperature",
        /// Air temperature without a shield, °C.
        BareAirTemperature = "bare_air_temperature",
        /// Relative humidity of the air, %.
        RelativeHumidity = "relative_humidity",
        /// Rain summed over the interval that ends at the reading's time, mm.
        Rain = "rain",
        /// Irrigation summed over the interval, mm.
        Irrigation = "irrigation",
        /// Bulk electrical conductivity, dS/m.
        ElectricalConductivity = "electrical_conductivity",
        /// The node's battery, V.
        BatteryVoltage = "battery_voltage",
        /// Humidity inside the enclosure, %.
        EnclosureHumidity = "enclosure_humidity",
        /// The logger's own temperature, °C.
        PanelTemperature = "panel_temperature",
        /// Radio signal strength, dBm.
        SignalStrength = "signal_strength",
        /// What a dielectric probe puts out before any calibration, in its own unit.
        RawOutput = "raw_output",
    }
);

impl Quantity {
    /// The unit of the record package; empty for raw output, which has its own.
    #[must_use]
    pub const fn unit(self) -> &'static str {
        match self {
            Self::WaterContent => "m3/m3",
            Self::WaterTension => "kPa",
            Self::SoilTemperature | Self::AirTemperature | Self::BareAirTemperature | Self::PanelTemperature => "degC",
            Self::RelativeHumidity | Self::EnclosureHumidity => "%",
            Self::Rain | Self::Irrigation => "mm",
            Self::ElectricalConductivity => "dS/m",
            Self::BatteryVoltage => "V",
            Self::SignalStrength => "dBm",
            Self::RawOutput => "",
        }
    }

    /// The quantity in words.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::WaterContent => "water content",
            Self::WaterTension => "water tension",
            Self::SoilTemperature => "soil temperature",
            Self::AirTemperature => "air temperature",
            Self::BareAirTemperature => "air temperature, bare sensor",
            Self::RelativeHumidity => "relative humidity",
            Self::Rain => "rain",
            Self::Irrigation => "irrigation",
            Self::ElectricalConductivity => "electrical conductivity",
            Self::BatteryVoltage => "battery",
            Self::EnclosureHumidity => "enclosure humidity",
            Self::PanelTemperature => "panel temperature",
            Self::SignalStrength => "signal strength",
            Self::RawOutput => "moisture probe, raw output",
        }
    }

    /// Whether a reading is a sum over the interval before it (rain) and not a state at its time.
    #[must_use]
    pub const fn is_sum(self) -> bool {
        matches!(self, Self::Rain | Self::Irrigation)
    }

    /// Whether the quantity tells of water in the soil, and so rises with rain.
    #[must_use]
    pub const fn is_moisture(self) -> bool {
        matches!(self, Self::WaterContent | Self::RawOutput | Self::WaterTension)
    }

    /// Whether a thermometer of soil or air measures it.
    #[must_use]
    pub const fn is_temperature(self) -> bool {
        matches!(self, Self::SoilTemperature | Self::AirTemperature | Self::BareAirTemperature)
    }

    /// Whether the quantity is measured in the soil at a depth.
    #[must_use]
    pub const fn is_in_soil(self) -> bool {
        self.is_moisture() || matches!(self, Self::SoilTemperature | Self::ElectricalConductivity)
    }

    /// Whether it tells of the node itself, its box and its radio: no probe needs to be placed for it.
    #[must_use]
    pub const fn is_of_the_node(self) -> bool {
        matches!(self, Self::BatteryVoltage | Self::EnclosureHumidity | Self::PanelTemperature | Self::SignalStrength)
    }

    /// How many decimals a reading of this quantity deserves on a page.
    #[must_use]
    pub const fn decimals(self) -> usize {
        match self {
            Self::WaterContent => 3,
            Self::ElectricalConductivity | Self::BatteryVoltage => 2,
            Self::RelativeHumidity | Self::EnclosureHumidity | Self::SignalStrength => 0,
            Self::WaterTension
            | Self::SoilTemperature
            | Self::AirTemperature
            | Self::BareAirTemperature
            | Self::PanelTemperature
            | Self::Rain
            | Self::Irrigation
            | Self::RawOutput => 1,
        }
    }
}

/// A unit code as people write it: `m3/m3` becomes `m³/m³`.
#[must_use]
pub fn unit_for_people(code: &str) -> String {
    match code {
        "m3/m3" => "m³/m³".to_owned(),
        "degC" => "°C".to_owned(),
        other => other.to_owned(),
    }
}

coded!(
    /// How a probe measures.
    Principle {
        /// Capacitance, impedance, time or frequency domain: water content through permittivity.
        Dielectric = "dielectric",
        /// Granular matrix block: tension from resistance.
        GranularMatrix = "granular_matrix",
        /// Gypsum block: tension, coarsely, from resistance.
        Gypsum = "gypsum",
        /// Any thermometer that reports degrees.
        Thermometer = "thermometer",
        /// Tipping bucket.
        RainGauge = "rain_gauge",
        /// The node itself: battery, panel, radio.
        Node = "node",
    }
);

coded!(
    /// How much a flag counts.
    Grade {
        /// Left out by default.
        Wrong = "wrong",
        /// Wants a person's verdict.
        Doubtful = "doubtful",
        /// True, but know it.
        Condition = "condition",
    }
);

coded!(
    /// What a person decided of a flag; it beats the test.
    Verdict {
        /// The readings are left out of every result.
        LeftOut = "left_out",
        /// The readings are kept.
        Kept = "kept",
    }
);

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn codes_go_there_and_back() {
        for &quantity in Quantity::ALL {
            assert_eq!(Quantity::from_code(quantity.code()), Some(quantity));
        }
        assert_eq!(Quantity::from_code("moisture"), None);
    }

    #[test]
    fn units_read_as_people_write_them() {
        assert_eq!(unit_for_people(Quantity::WaterContent.unit()), "m³/m³");
        assert_eq!(unit_for_people("mV"), "mV");
    }
}
