//! Time on air, the share of time a band allows, and whether a packet arrives: through air, and out of the soil.

mod link;
mod packet;
mod soil;

pub use link::{Link, Terrain, free_space_loss, link_margin, sensitivity_dbm};
pub use packet::{DutyCycle, Packet, TimeOnAir, duty_cycle, time_on_air};
pub use soil::{SoilPath, WetSoil, permittivity, soil_path};
