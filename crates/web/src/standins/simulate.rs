//! `ebrel simulate`: nodes and a gateway on simulated soil that send to a running Ebrel.

use super::line::{Line, Sent};
use crate::state::wall_clock;
use crate::terminal::tell;
use anyhow::{anyhow, bail};
use clap::Args;
use ebrel_core::units::Quantity;
use ebrel_simulator::network::{Network, PortTold, Rig, Weakness};
use ebrel_simulator::{Beside, Cover, PortBeside, Sees, World, ostrelle_cut_coupe};
use std::path::PathBuf;
use std::time::Duration;

/// What the stand-ins are to do.
#[derive(Args)]
pub struct SimulateArgs {
    /// Where Ebrel is: http://127.0.0.1:8417.
    #[arg(long, required_unless_present = "mqtt", requires = "key")]
    pub to: Option<String>,
    /// The gateway's key, made on the page of a station's nodes.
    #[arg(long)]
    pub key: Option<String>,
    /// A broker instead: mqtt://host:1883.
    #[arg(long, conflicts_with = "to", requires = "mqtt_topic")]
    pub mqtt: Option<String>,
    /// Its topic, with + where the node's number stands.
    #[arg(long)]
    pub mqtt_topic: Option<String>,
    /// Number of a node, as its page shows it; may be given several times.
    #[arg(long, required = true)]
    pub node: Vec<i64>,
    /// Where nodes and gateway keep what is not confirmed. Begun again on the same directory, they go on.
    #[arg(long)]
    pub dir: PathBuf,
    /// Days of record, up to now.
    #[arg(long, default_value_t = 9, value_parser = clap::value_parser!(i64).range(1..=1000))]
    pub days: i64,
    /// Seconds that a day takes; 0: as fast as it goes.
    #[arg(long, default_value_t = 0.0)]
    pub day_seconds: f64,
    /// A node sends at each so many records of a quarter of an hour.
    #[arg(long, default_value_t = 4, value_parser = clap::value_parser!(u16).range(1..=96))]
    pub every: u16,
    /// Decides weather and mishaps.
    #[arg(long, default_value_t = 417)]
    pub seed: u64,
    /// Share of hours in which the gateway reaches nobody, 0 to 1.
    #[arg(long, default_value_t = 0.0, value_parser = share)]
    pub outage: f64,
    /// Share of messages that are sent twice, 0 to 1.
    #[arg(long, default_value_t = 0.0, value_parser = share)]
    pub twice: f64,
    /// Share of messages that overtake older ones, 0 to 1.
    #[arg(long, default_value_t = 0.0, value_parser = share)]
    pub overtaking: f64,
    /// By how much clocks are wrong, seconds.
    #[arg(long, default_value_t = 0, allow_negative_numbers = true)]
    pub clock: i64,
    /// By how much they go fast, seconds a day.
    #[arg(long, default_value_t = 0.0, allow_negative_numbers = true)]
    pub drift: f64,
    /// A node whose battery is at its end.
    #[arg(long)]
    pub weak_battery: Option<i64>,
    /// A node whose box leaks.
    #[arg(long)]
    pub wet_box: Option<i64>,
    /// Rain eats the signal: below -96 dBm a node is not heard.
    #[arg(long)]
    pub rain_eats_signal: bool,
}

fn share(text: &str) -> Result<f64, String> {
    match text.parse() {
        Ok(share) if (0.0..=1.0).contains(&share) => Ok(share),
        _ => Err("a share lies between 0 and 1".to_owned()),
    }
}

/// Signal below which rain leaves nothing to hear, dBm.
const DEAF_BELOW_DBM: f64 = -96.0;
/// Time until a parcel that could not be sent is sent again.
const AGAIN: Duration = Duration::from_millis(200);

/// What is at a node's ports, and how it names them.
pub fn rig(args: &SimulateArgs, number: i64) -> (Rig, Beside) {
    let battery = if args.weak_battery == Some(number) { Sees::WeakBattery } else { Sees::Battery };
    let humidity = if args.wet_box == Some(number) { Sees::WetBox } else { Sees::DryBox };
    let serial = u32::try_from(400 + number.rem_euclid(1000)).unwrap_or(400);
    let all = [
        ("m05", 5.0, Sees::Blade(serial), Quantity::RawOutput, "mV"),
        ("m15", 15.0, Sees::Blade(serial + 1), Quantity::RawOutput, "mV"),
        ("m30", 30.0, Sees::Blade(serial + 2), Quantity::RawOutput, "mV"),
        ("t05", 5.0, Sees::Temperature, Quantity::SoilTemperature, "degC"),
        ("t15", 15.0, Sees::Temperature, Quantity::SoilTemperature, "degC"),
        ("t30", 30.0, Sees::Temperature, Quantity::SoilTemperature, "degC"),
        ("s25", 25.0, Sees::Tension, Quantity::WaterTension, "kPa"),
        ("air", -150.0, Sees::Air, Quantity::AirTemperature, "degC"),
        ("panel", 5.0, Sees::Panel, Quantity::PanelTemperature, "degC"),
        ("box", 5.0, humidity, Quantity::EnclosureHumidity, "%"),
        ("radio", 5.0, Sees::Signal, Quantity::SignalStrength, "dBm"),
        ("batt", 5.0, battery, Quantity::BatteryVoltage, "V"),
    ];
    let told = all.map(|(port, _, _, quantity, unit)| PortTold { port: port.into(), quantity, unit: unit.into() });
    let ports = all.map(|(_, depth_cm, sees, _, _)| PortBeside { depth_cm, sees }).to_vec();
    let cover = if number % 2 == 0 { Cover::Closed } else { Cover::Half };
    (Rig { number, ports: told.to_vec() }, Beside { cover, ports })
}

/// What was sent, in all.
#[derive(Default)]
struct Sum {
    parcels: usize,
    new: usize,
    known: usize,
    contradicting: usize,
    refused: usize,
    /// Why the last parcel was not taken: said once, and again when it is another reason.
    trouble: String,
}

/// Runs the stand-ins until all is confirmed.
///
/// # Errors
/// If the arguments or the disk do not serve.
pub async fn run(args: SimulateArgs) -> anyhow::Result<()> {
    if args.day_seconds.is_nan() || args.day_seconds < 0.0 {
        bail!("a day takes 0 seconds or more");
    }
    let mut numbers = args.node.clone();
    numbers.sort_unstable();
    numbers.dedup();
    if numbers.len() < args.node.len() {
        bail!("a node is named twice: give each its own --node");
    }
    let mut line = match (&args.to, &args.mqtt) {
        (Some(base), _) => Line::http(base, args.key.clone().unwrap_or_default())?,
        (None, Some(url)) => Line::mqtt(url, args.mqtt_topic.clone().unwrap_or_default())?,
        (None, None) => bail!("say where to send: --to or --mqtt"),
    };
    let wrong = |e: std::io::Error| anyhow!("{} cannot be used: {e}", args.dir.display());
    let (start, end) = span(&args).map_err(wrong)?;
    let (rigs, beside): (Vec<_>, Vec<_>) = args.node.iter().map(|n| rig(&args, *n)).unzip();
    let weakness = Weakness {
        seed: args.seed,
        outage: args.outage,
        twice: args.twice,
        overtaking: args.overtaking,
        clock_s: args.clock,
        fast_s_per_day: args.drift,
        deaf_below_dbm: args.rain_eats_signal.then_some(DEAF_BELOW_DBM),
    };
    let mut network = Network::open(&args.dir, rigs, weakness, start, usize::from(args.every)).map_err(wrong)?;
    let mut scenario = ostrelle_cut_coupe();
    (scenario.start, scenario.end) = (start, end);
    let mut world = World::new(&scenario, args.seed, &beside);
    let pace = Duration::from_secs_f64(args.day_seconds / 96.0);
    let mut sum = Sum::default();
    while let Some(step) = world.until(end) {
        network.step(step.t, &step.values[1..]).map_err(wrong)?;
        send_waiting(&mut network, &mut line, Some(step.t), &mut sum).await.map_err(wrong)?;
        if !pace.is_zero() {
            tokio::time::sleep(pace).await;
        }
    }
    network.hand_all_on().map_err(wrong)?;
    while network.backlog().1 > 0 {
        if !send_waiting(&mut network, &mut line, None, &mut sum).await.map_err(wrong)? {
            tokio::time::sleep(AGAIN).await;
        }
    }
    let Sum { parcels, new, known, contradicting, refused, .. } = sum;
    tell(&format!(
        "All is confirmed: {parcels} messages; {new} readings new, {known} known, {contradicting} contradicting, {refused} refused."
    ));
    Ok(())
}

/// First and last moment of the record: chosen at the first start, and the same when it is begun again.
fn span(args: &SimulateArgs) -> std::io::Result<(i64, i64)> {
    let path = args.dir.join("start");
    std::fs::create_dir_all(&args.dir)?;
    let start = match std::fs::read_to_string(&path).ok().and_then(|t| t.trim().parse::<i64>().ok()) {
        Some(start) => start,
        None => {
            let start = (wall_clock().0 - args.days * 86_400).div_euclid(900) * 900;
            std::fs::write(&path, start.to_string())?;
            start
        }
    };
    Ok((start, start + args.days * 86_400 - 900))
}

/// Sends what waits at the gateway; whether all of it went.
async fn send_waiting(network: &mut Network, line: &mut Line, t: Option<i64>, sum: &mut Sum) -> std::io::Result<bool> {
    while let Some(parcel) = network.next_parcel(t)? {
        match line.send(parcel.node, &parcel.message).await {
            Sent::Confirmed(receipt) => {
                network.gateway().confirmed(&parcel)?;
                let receipt = receipt.unwrap_or_default();
                sum.trouble.clear();
                sum.parcels += 1;
                sum.new += receipt.new;
                sum.known += receipt.known;
                sum.contradicting += receipt.contradicting;
                sum.refused += receipt.refused;
            }
            Sent::Refused(why) => {
                tell(&format!("A message of node {} is refused and lies in the gateway's refused: {why}", parcel.node));
                network.gateway().refused(&parcel)?;
            }
            Sent::Later(why) => {
                if sum.trouble != why {
                    tell(&format!("Not taken, and kept for later: {why}"));
                    sum.trouble = why;
                }
                return Ok(false);
            }
        }
    }
    Ok(true)
}
