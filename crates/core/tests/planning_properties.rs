//! What holds for every plan, whatever is typed: ports, addresses, budgets, calendar, and the draft's own form.

use ebrel_core::planning::{Assessment, Catalogue, Draft, Method, Setting, Severity, Signal, assess};
use proptest::prelude::*;
use serde_json::{Value, json};
use std::collections::BTreeSet;

fn work_out(draft: &Draft) -> Assessment {
    let setting = Setting { station: "Tub 1".into(), interval_s: 900.0, months: 24.0 };
    assess(draft, &Catalogue::shipped(), &setting)
}

fn draft(value: Value) -> Draft {
    serde_json::from_value(value).expect("a draft")
}

/// Probes of any models, at any ports and addresses that somebody may type.
fn probes() -> impl Strategy<Value = Vec<Value>> {
    let ports = prop::sample::select(vec!["", "", "", "A1", "a3", "B1", "W1", "P1", "D2", "Z9"]);
    let addresses = prop::sample::select(vec!["", "", "0", "1", "z", "10", "é"]);
    let probe = (0usize..11, 1.0..120.0f64, ports, addresses).prop_map(|(model, depth, port, address)| {
        let catalogue = Catalogue::shipped();
        let model = &catalogue.probes[model];
        let depth = if model.in_soil { depth } else { -depth };
        json!({"model": model.code, "depth_cm": depth, "port": port, "address": address})
    });
    prop::collection::vec(probe, 0..16)
}

fn plan(probes: &[Value], logger: usize) -> Draft {
    draft(json!({"probes": probes, "choices": {"logger": Catalogue::shipped().loggers[logger].code}}))
}

proptest! {
    #[test]
    fn one_analog_port_holds_one_probe_and_no_two_answer_to_one_address(probes in probes(), logger in 0usize..3) {
        let found = work_out(&plan(&probes, logger));
        let mut seen = BTreeSet::new();
        for plugged in &found.wiring.plugged {
            let Some(port) = &plugged.port else { continue };
            let signal = found.plan.probes[plugged.probe].model.signal;
            prop_assert!(port.kind.reads(signal), "{port:?} does not read {signal:?}");
            if signal == Signal::Bus {
                let address = plugged.address.clone().unwrap_or_default();
                prop_assert!(address.is_empty() || seen.insert((port.name.clone(), address)), "a clash went unseen");
            } else if !port.kind.is_shared() {
                prop_assert!(seen.insert((port.name.clone(), String::new())), "two probes at {}", port.name);
            }
        }
    }

    #[test]
    fn a_probe_without_a_port_is_always_told(probes in probes(), logger in 0usize..3) {
        let found = work_out(&plan(&probes, logger));
        for plugged in found.wiring.plugged.iter().filter(|p| p.port.is_none()) {
            let at = found.plan.probes[plugged.probe].field("port");
            prop_assert!(found.remarks.iter().any(|r| r.at == at && r.severity == Severity::Stop), "{at}");
            prop_assert!(!found.wiring.wires.iter().any(|w| w.probe == plugged.probe), "no port, no terminals");
        }
        let conductors: usize = (found.wiring.plugged.iter().filter(|p| p.port.is_some()))
            .map(|p| found.plan.probes[p.probe].model.conductors.len())
            .sum();
        prop_assert_eq!(found.wiring.wires.len(), conductors, "every conductor has its row");
    }

    #[test]
    fn a_draft_comes_back_from_its_json_as_it_was_typed(typed in "\\PC{0,12}", number in -1e6..1e6f64, method in 0usize..10) {
        let mut before = draft(json!({"probes": [{"depth_cm": number, "purpose": typed}]}));
        before.figures.insert("roots_cm".into(), typed.as_str().into());
        before.choices.insert("method".into(), Method::ALL[method].code().into());
        let json = serde_json::to_string(&before).expect("JSON");
        let after: Draft = serde_json::from_str(&json).expect("a draft");
        prop_assert_eq!(&after, &before);
        // Whatever is typed in a number's field, the plan is worked out, and says so if it is none.
        let found = work_out(&after);
        let legal = typed.trim().is_empty() || typed.trim().replace(',', ".").parse::<f64>().is_ok_and(|v| (5.0..=300.0).contains(&v));
        let told = found.remarks.iter().any(|r| r.at == "figures.roots_cm");
        prop_assert!(told || legal || typed.chars().any(|c| c.is_whitespace() || c == '−'), "{typed:?} was taken in silence");
    }

    #[test]
    fn a_larger_battery_lasts_longer_and_a_busier_node_shorter(mah in 200.0..30_000.0f64, scan in 10u32..1800) {
        let days = |mah: f64, scan: u32| {
            let figures = json!({"battery_mah": mah, "scan_s": scan});
            let found = work_out(&draft(json!({"probes": [{"depth_cm": 20, "model": "rod-3"}], "figures": figures})));
            found.energy.battery_days.unwrap_or(f64::INFINITY)
        };
        let plain = days(mah, scan);
        prop_assert!(days(mah * 1.5, scan) > plain);
        prop_assert!(days(mah, scan * 2) > plain);
    }

    #[test]
    fn the_link_fades_with_distance_and_its_plot_says_what_the_answer_says(distance in 10.0..40_000.0f64, spreading in 7u32..=12) {
        let figures = json!({"distance_m": distance, "spreading": spreading});
        let found = work_out(&draft(json!({"probes": [{"depth_cm": 20, "model": "rod-3"}], "figures": figures})));
        let plot = &found.radio.by_distance;
        prop_assert!(plot.windows(2).all(|w| w[1].0 > w[0].0 && w[1].1 < w[0].1));
        let around = plot.windows(2).find(|w| (w[0].0..=w[1].0).contains(&distance)).expect("within the plot");
        prop_assert!((around[1].1..=around[0].1).contains(&found.radio.margin_db));
    }

    #[test]
    fn the_calendar_is_in_order_and_ends_with_the_retrieval(
        month in 1u32..=12, day in 1u32..=28, months in 1u32..40, every in 1u32..200, block in any::<bool>(),
    ) {
        let model = if block { "matrix-block" } else { "blade-5" };
        let end = 2027 * 12 + month - 1 + months;
        let value = json!({
            "probes": [{"depth_cm": 20, "model": model}], "figures": {"visit_days": every},
            "install": format!("2027-{month:02}-{day:02}"), "retrieve": format!("{}-{:02}-{day:02}", end / 12, end % 12 + 1)
        });
        let found = work_out(&draft(value));
        let entries = &found.calendar;
        prop_assert!(entries.windows(2).all(|w| w[0].from <= w[1].from));
        prop_assert!(entries.iter().all(|e| e.until > e.from));
        let of = |code: &str| entries.iter().find(|e| e.code == code);
        let (install, retrieve) = (of("install").expect("installed"), of("retrieve").expect("retrieved"));
        prop_assert_eq!(of("soak").is_some(), block);
        for e in entries.iter().filter(|e| e.repeats.is_some()) {
            let (days, times) = e.repeats.expect("it repeats");
            let last = e.from.0 + days * 86_400 * i64::from(times - 1);
            prop_assert!(e.from > install.from && last <= retrieve.from.0, "{} goes on after the end", e.code);
        }
    }
}
