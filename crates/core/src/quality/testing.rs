//! Records for the tests of the tests.

use super::{Channel, Flag, Settings, StationContext, Test, check_station};
use crate::series::Series;
use crate::units::Quantity;

pub fn series(n: i64, value: impl Fn(i64) -> f64) -> Series {
    Series { times: (0..n).map(|i| i * 900).collect(), values: (0..n).map(value).collect() }
}

/// A record with a silence: the readings of these numbers are not there.
pub fn without(s: &Series, silent: std::ops::Range<usize>) -> Series {
    let (times, values) = (s.times.iter().zip(&s.values).enumerate())
        .filter_map(|(i, r)| (!silent.contains(&i)).then_some(r))
        .unzip::<_, _, Vec<i64>, Vec<f64>>();
    Series { times: times.into(), values }
}

/// Noise of standard deviation 1 that is the same at every run.
pub fn noisy(i: i64) -> f64 {
    (0..12).map(|k| ((i * 12 + k) as f64 * 12.9898).sin() * 43_758.545_3).map(|v| v - v.floor()).sum::<f64>() - 6.0
}

/// A drying soil with noise of 0.0007 and a step of 0.0001.
pub fn moist(n: i64, start: f64) -> Series {
    series(n, |i| {
        let v = start - 2e-5 * i as f64 + 0.002 * (i as f64 / 15.3).sin() + 7e-4 * noisy(i);
        (v * 1e4).round() / 1e4
    })
}

pub fn channel(s: &Series) -> Channel<'_> {
    Channel {
        node: "node",
        depth_cm: Some(5.0),
        raw_unit: "mV",
        ..Channel::bare("5 cm", Quantity::RawOutput, s.view())
    }
}

pub fn check_all(records: &[(&Series, f64)], rain: Option<&Series>) -> Vec<Vec<Flag>> {
    let channels: Vec<Channel<'_>> = records
        .iter()
        .map(|(s, depth)| Channel { quantity: Quantity::WaterContent, depth_cm: Some(*depth), ..channel(s) })
        .collect();
    with_rain(&channels, rain)
}

/// All tests over channels beside a gauge, if there is one; the gauge's own flags are left out.
fn with_rain(channels: &[Channel<'_>], rain: Option<&Series>) -> Vec<Vec<Flag>> {
    let mut all = channels.to_vec();
    all.extend(rain.map(|s| Channel { quantity: Quantity::Rain, depth_cm: None, ..channel(s) }));
    let mut flags = flags_of(&all);
    flags.truncate(channels.len());
    flags
}

/// All flags of channels that stand alone, by channel.
pub fn flags_of(channels: &[Channel<'_>]) -> Vec<Vec<Flag>> {
    check_station(&StationContext::alone(channels, &[]), &Settings::default()).flags
}

/// The flags of one test on one channel that stands alone.
pub fn found(of: &Channel<'_>, test: Test) -> Vec<Flag> {
    let mut flags = flags_of(std::slice::from_ref(of)).remove(0);
    flags.retain(|f| f.test == test);
    flags
}

/// The flags of one test on one record at 5 cm.
pub fn check(s: &Series, rain: Option<&Series>, test: Test) -> Vec<Flag> {
    let mut flags = check_all(&[(s, 5.0)], rain).remove(0);
    flags.retain(|f| f.test == test);
    flags
}

#[test]
fn a_sound_record_raises_nothing() {
    let s = moist(9000, 0.35);
    let rain = Series { times: Vec::new().into(), values: Vec::new() };
    assert_eq!(with_rain(&[channel(&s)], Some(&rain)), vec![Vec::new()]);
    assert_eq!(with_rain(&[channel(&s)], None), vec![Vec::new()]);
}

#[test]
fn the_pore_space_bounds_and_rain_explains() {
    let mut s = moist(2000, 0.3);
    s.values[500..520].fill(0.47);
    s.values[1500..1503].fill(-0.04);
    let mut c = Channel { quantity: Quantity::WaterContent, pore_space: Some(0.44), ..channel(&s) };
    let rain = Series { times: vec![495 * 900].into(), values: vec![31.5] };
    let tests = |c: &Channel<'_>, rain: Option<&Series>| {
        let flags = with_rain(std::slice::from_ref(c), rain).remove(0);
        flags.iter().map(|f| f.test).filter(|t| matches!(t, Test::Ponded | Test::Impossible)).collect::<Vec<_>>()
    };
    assert_eq!(tests(&c, Some(&rain)), [Test::Ponded, Test::Impossible]);
    c.depth_cm = Some(60.0);
    assert_eq!(tests(&c, Some(&rain)), [Test::Ponded, Test::Impossible], "water stands at any depth");
    assert_eq!(tests(&c, None), [Test::Impossible], "0.03 above is what the pore space is known to");
    let mut table = s.clone();
    table.values[500..600].fill(0.46);
    let of_table = Channel { view: table.view(), ..c.clone() };
    assert_eq!(tests(&of_table, None), [Test::Ponded, Test::Impossible], "a day of it is, and no gauge is needed");
    let mut far = s.clone();
    far.values[500..520].fill(0.55);
    let of_far = Channel { view: far.view(), ..c.clone() };
    assert_eq!(tests(&of_far, Some(&rain)), [Test::Impossible, Test::Impossible], "no rain fills more than the pores");
    let mut a_little = s.clone();
    a_little.values[500..503].fill(0.46);
    assert_eq!(tests(&Channel { view: a_little.view(), ..c }, None), [Test::Impossible], "only the dry end");
}
