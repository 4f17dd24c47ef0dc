//! Chirp-spread-spectrum packets and the duty cycle of a band.

/// How a packet is sent.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Packet {
    /// Spreading factor, 7 to 12.
    pub spreading: u32,
    /// Bandwidth, Hz.
    pub bandwidth_hz: f64,
    /// Bytes of payload with the protocol's overhead.
    pub payload_bytes: u32,
    /// Coding rate 4/(4 + n), n = 1 to 4.
    pub coding: u32,
}

/// Symbols before the payload.
const PREAMBLE_SYMBOLS: f64 = 8.0;
/// From this symbol time on the low-rate correction is on, ms.
const LOW_RATE_SYMBOL_MS: f64 = 16.0;

/// How long a packet takes.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct TimeOnAir {
    /// One symbol, ms.
    pub symbol_ms: f64,
    /// Whether the low-rate correction is on.
    pub low_rate: bool,
    /// Symbols of the payload.
    pub payload_symbols: u32,
    /// The whole packet, ms.
    pub total_ms: f64,
}

/// Time on air of a packet with explicit header and checksum.
///
/// Ts = 2^SF/BW; payload symbols 8 + max(0, ⌈(8 PL − 4 SF + 28 + 16)/(4 (SF − 2 DE))⌉ (CR + 4)); preamble (8 + 4.25) Ts.
/// Adelantado et al. 2017, IEEE Communications Magazine 55(9):34. Worked value: SF 7, 125 kHz, 23 bytes: 61.696 ms.
#[must_use]
pub fn time_on_air(packet: Packet) -> TimeOnAir {
    let (sf, bytes) = (i64::from(packet.spreading.clamp(7, 12)), i64::from(packet.payload_bytes));
    let symbol_ms = 2f64.powi(sf as i32) / packet.bandwidth_hz * 1000.0;
    let low_rate = symbol_ms > LOW_RATE_SYMBOL_MS;
    let bits = (8 * bytes - 4 * sf + 28 + 16).max(0) as f64;
    let blocks = (bits / (4 * (sf - 2 * i64::from(low_rate))) as f64).ceil() as u32;
    let payload_symbols = 8 + blocks * (packet.coding + 4);
    let total_ms = (PREAMBLE_SYMBOLS + 4.25 + f64::from(payload_symbols)) * symbol_ms;
    TimeOnAir { symbol_ms, low_rate, payload_symbols, total_ms }
}

/// What a band's duty cycle leaves of the time.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct DutyCycle {
    /// Shortest time from packet to packet, s.
    pub period_s: f64,
    /// Packets per hour at most.
    pub per_hour: u32,
}

/// The limit of a band in which a sender may be on the air for `fraction` of each hour (ETSI EN 300 220 kind).
///
/// Worked value: 1482.752 ms at 1 %: every 148.3 s, 24 an hour.
#[must_use]
pub fn duty_cycle(air_ms: f64, fraction: f64) -> DutyCycle {
    let period_s = air_ms / 1000.0 / fraction;
    // A product that should be whole must not fall short of it by rounding.
    DutyCycle { period_s, per_hour: (3600.0 / period_s * (1.0 + 1e-12)).floor() as u32 }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::statistics::testing::assert_close;

    #[test]
    fn packets_of_the_reference() {
        let packet = |spreading, payload_bytes| Packet { spreading, bandwidth_hz: 125_000.0, payload_bytes, coding: 1 };
        assert_close(time_on_air(packet(7, 23)).total_ms, 61.696, 1e-11);
        let slow = time_on_air(packet(12, 23));
        assert_close(slow.total_ms, 1482.752, 1e-11);
        assert!(slow.low_rate && slow.payload_symbols == 33);
        assert_close(time_on_air(packet(9, 40)).total_ms, 287.744, 1e-11);
        let wide = time_on_air(Packet { bandwidth_hz: 500_000.0, ..packet(12, 23) });
        assert!(!wide.low_rate, "8.2 ms a symbol needs no correction");
    }

    #[test]
    fn duty_cycles_of_the_reference() {
        assert_eq!(duty_cycle(56.576, 0.01).per_hour, 636);
        let slow = duty_cycle(1482.752, 0.01);
        assert_close(slow.period_s, 148.2752, 1e-12);
        assert_eq!(slow.per_hour, 24);
        assert_eq!(duty_cycle(36.0, 0.01).per_hour, 1000, "exact multiples do not fall short");
    }
}
