//! Link margin through air.

use std::f64::consts::PI;

/// Speed of light, m/s.
pub(super) const LIGHT_M_S: f64 = 299_792_458.0;
/// Thermal noise of 1 Hz at 290 K, dBm, rounded as link budgets do.
const NOISE_DBM_HZ: f64 = -174.0;

/// What lies between node and gateway, as a loss on top of free space.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Terrain {
    /// Both in sight of each other over a meadow or a field.
    Open,
    /// Hedges, an orchard, light woodland.
    Broken,
    /// Through closed forest in leaf, or behind a rise.
    Forest,
}

impl Terrain {
    /// Loss in dB that is added to free space: a planning allowance, to be replaced by a test on site.
    #[must_use]
    pub const fn loss_db(self) -> f64 {
        match self {
            Self::Open => 10.0,
            Self::Broken => 20.0,
            Self::Forest => 35.0,
        }
    }
}

/// One link, but for its distance.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Link {
    /// Carrier, Hz.
    pub frequency_hz: f64,
    /// Power sent, dBm.
    pub power_dbm: f64,
    /// Gain of the node's antenna, dBi.
    pub node_gain_dbi: f64,
    /// Gain of the gateway's antenna, dBi.
    pub gateway_gain_dbi: f64,
    /// Losses on top of free space, dB.
    pub extra_loss_db: f64,
    /// Bandwidth, Hz.
    pub bandwidth_hz: f64,
    /// Noise figure of the receiver, dB.
    pub noise_figure_db: f64,
    /// Smallest signal-to-noise ratio that is still understood, dB.
    pub least_snr_db: f64,
}

/// Loss of free space, dB: 20 log10(4π d f/c) (Friis 1946, Proc. IRE 34:254).
/// Worked value: 1 km at 868 MHz: 91.218 dB.
#[must_use]
pub fn free_space_loss(distance_m: f64, frequency_hz: f64) -> f64 {
    20.0 * (4.0 * PI * distance_m * frequency_hz / LIGHT_M_S).log10()
}

/// Weakest signal that is understood, dBm: −174 + 10 log10(BW) + NF + SNR.
#[must_use]
pub fn sensitivity_dbm(link: &Link) -> f64 {
    NOISE_DBM_HZ + 10.0 * link.bandwidth_hz.log10() + link.noise_figure_db + link.least_snr_db
}

/// What is left above the weakest understood signal over `distance_m`, dB.
#[must_use]
pub fn link_margin(link: &Link, distance_m: f64) -> f64 {
    link.power_dbm + link.node_gain_dbi + link.gateway_gain_dbi
        - free_space_loss(distance_m, link.frequency_hz)
        - link.extra_loss_db
        - sensitivity_dbm(link)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::statistics::testing::assert_close;

    #[test]
    fn links_of_the_reference() {
        let link = Link {
            frequency_hz: 868e6,
            power_dbm: 14.0,
            node_gain_dbi: 0.0,
            gateway_gain_dbi: 2.0,
            extra_loss_db: 20.0,
            bandwidth_hz: 125_000.0,
            noise_figure_db: 6.0,
            least_snr_db: -7.5,
        };
        assert_close(free_space_loss(1000.0, 868e6), 91.218_177_725_4, 1e-10);
        assert_close(sensitivity_dbm(&link), -124.530_899_87, 1e-10);
        assert_close(link_margin(&link, 1000.0), 29.312_722_144_5, 1e-10);
        let far = Link {
            frequency_hz: 433e6,
            power_dbm: 10.0,
            node_gain_dbi: -2.0,
            gateway_gain_dbi: 3.0,
            extra_loss_db: 12.0,
            least_snr_db: -20.0,
            ..link
        };
        assert_close(link_margin(&far, 5000.0), 36.873_958_634_2, 1e-10);
    }
}
