//! Stand-ins for nodes and a gateway that speak to a running Ebrel as real ones would: over HTTP or through a broker.
//!
//! What they measure and keep is `ebrel_simulator::network`; here is the line by which it goes up, and the commands.

mod line;
pub mod live;
pub mod simulate;
