//! `ebrel demo --live`: the demo's nodes go on measuring beside the server and send to it over HTTP, time passing faster.

use super::line::{Line, Sent};
use crate::state::data_dir::STAND_INS;
use crate::state::{State, secrets, wall_clock};
use crate::terminal::tell;
use actix_web::web::Data;
use ebrel_app::demo::LiveDemo;
use ebrel_simulator::network::{Network, Weakness};
use ebrel_store::keys::NewKey;
use std::time::Duration;

/// A node sends at each so many records: once an hour.
const EVERY: usize = 4;
/// Steps over which rain falls that somebody lets fall: an hour.
const RAIN_STEPS: u32 = 4;
/// Records of a day.
const A_DAY: f64 = 96.0;

/// Lives the made-up world on, a day in so many seconds, until the server ends.
pub async fn go_on(state: Data<State>, base: String, day_seconds: f64) {
    if let Err(error) = lived(&state, &base, day_seconds).await {
        tell(&format!("The stand-ins have stopped: {error:#}"));
    }
}

async fn lived(state: &Data<State>, base: &str, day_seconds: f64) -> anyhow::Result<()> {
    let Some(live) = &state.live else { return Ok(()) };
    // The rest of the demo may still be being made.
    while state.still_made().is_some() {
        tokio::time::sleep(Duration::from_millis(500)).await;
    }
    let Some(demo) = LiveDemo::of(&state.store).await? else { return Ok(()) };
    let key = key(state, &demo).await?;
    let mut line = Line::http(base, key)?;
    let dir = state.data.join(STAND_INS);
    let mut network = Network::open(&dir, demo.rigs.clone(), Weakness::default(), demo.last.0, EVERY)?;
    let (study, now) = (demo.study, demo.now.0);
    let rigs = demo.rigs.clone();
    let mut world = tokio::task::spawn_blocking(move || demo.world()).await?;
    live.change(|l| l.rigs = rigs);
    let pace = Duration::from_secs_f64((day_seconds / A_DAY).max(0.005));
    let mut ticks = tokio::time::interval(pace);
    ticks.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        ticks.tick().await;
        let rain = live.change(|l| {
            network.hand.clone_from(&l.hand);
            std::mem::take(&mut l.rain_mm)
        });
        if rain > 0.0 {
            world.pour(rain, RAIN_STEPS);
        }
        let step = world.step();
        // A message of a time that is still to come would be refused.
        state.store.fix_now(study, Some(step.t.max(now))).await?;
        network.step(step.t, &LiveDemo::values(&step))?;
        let trouble = send_waiting(&mut network, &mut line).await?;
        let backlog = network.backlog();
        live.change(|l| {
            l.now = Some(ebrel_core::units::UnixSeconds(step.t));
            l.backlog = backlog;
            l.trouble = trouble;
        });
    }
}

/// Sends what waits at the gateway; why something was not taken, if so.
async fn send_waiting(network: &mut Network, line: &mut Line) -> std::io::Result<String> {
    while let Some(parcel) = network.next_parcel(None)? {
        match line.send(parcel.node, &parcel.message).await {
            Sent::Confirmed(_) => network.gateway().confirmed(&parcel)?,
            Sent::Refused(why) => {
                network.gateway().refused(&parcel)?;
                return Ok(why);
            }
            Sent::Later(why) => return Ok(why),
        }
    }
    Ok(String::new())
}

/// A key for the stand-ins' gateway, made anew at each start; the one before serves no more.
async fn key(state: &State, demo: &LiveDemo) -> anyhow::Result<String> {
    const NAME: &str = "stand-in gateway";
    let (secret, now) = (secrets::secret(), wall_clock());
    let nodes: Vec<i64> = demo.rigs.iter().map(|r| r.number).collect();
    for (node, keys) in state.store.keys_of(&nodes).await? {
        for old in keys.iter().filter(|k| k.name == NAME && !k.revoked) {
            state.store.end_key(node, old.id, now, NAME).await?;
        }
    }
    let new = NewKey { name: NAME.into(), hash: secrets::hash_of(&secret), nodes, at: now, by: NAME.into() };
    state.store.add_key(demo.study, &new).await?;
    Ok(secret)
}
