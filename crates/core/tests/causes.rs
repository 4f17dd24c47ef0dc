//! One cause is said once: what each explains, what it leaves alone, what speaks against it, and what would mend it.

mod plot;

use ebrel_core::quality::{
    Cause, CauseKind, Channel, Event, EventKind, Findings, Mend, Repeat, Settings, StationContext, Test, check_station,
};
use ebrel_core::series::Series;
use ebrel_core::units::{Quantity, UnixSeconds};
use plot::{DAY, DAYS, STEP, STORMS, channel, heat, moisture, noise, rain, rounded, series, wetting};

fn run(channels: &[Channel<'_>], events: &[Event]) -> Findings {
    let found = check_station(&StationContext::alone(channels, events), &Settings::default());
    // Whatever is found: a cause speaks of flags that are there, and no flag has two causes.
    let mut told: Vec<(usize, usize)> = found.causes.iter().flat_map(|c| c.flags.iter().copied()).collect();
    let n = told.len();
    told.sort_unstable();
    told.dedup();
    assert_eq!(told.len(), n, "a flag with two causes: {:?}", found.causes);
    assert!(told.iter().all(|(c, i)| found.flags[*c].len() > *i));
    for cause in &found.causes {
        assert!(cause.start <= cause.end && !cause.reason.is_empty() && !cause.reason.contains("NaN"), "{cause:?}");
        assert!(cause.flags.len() >= 2 || cause.mend.is_some(), "one flag speaks for itself: {cause:?}");
    }
    found
}

fn of(found: &Findings, kind: CauseKind) -> Vec<&Cause> {
    found.causes.iter().filter(|c| c.kind == kind).collect()
}

/// The tests whose flags a cause explains.
fn tests(found: &Findings, cause: &Cause) -> Vec<Test> {
    let mut tests: Vec<Test> = cause.flags.iter().map(|(c, i)| found.flags[*c][*i].test).collect();
    tests.sort_unstable();
    tests.dedup();
    tests
}

fn at_work(day: i64) -> Event {
    Event { kind: EventKind::Visit, start: UnixSeconds(day * DAY * STEP), end: UnixSeconds((day * DAY + 4) * STEP) }
}

fn on<'a>(port: &'a str, c: Channel<'a>) -> Channel<'a> {
    Channel { port, ..c }
}

/// Two ports of moisture and temperature that are exchanged from day 40 to day 52.
fn exchanged() -> [Series; 4] {
    let (upper, warm, cool) = (moisture(1, 2, 0.1), heat(5.0), heat(40.0));
    let lower = moisture(2, 30, 0.05);
    let lower = series(|i| lower.values[i as usize] + 0.08);
    let swap = |a: &Series, b: &Series| {
        series(|i| if (40 * DAY..52 * DAY).contains(&i) { b.values[i as usize] } else { a.values[i as usize] })
    };
    [swap(&upper, &lower), swap(&lower, &upper), swap(&warm, &cool), swap(&cool, &warm)]
}

fn two_ports<'a>(s: &'a [Series; 4], ports: [&'a str; 2]) -> [Channel<'a>; 4] {
    [
        on(ports[0], channel(&s[0], Quantity::WaterContent, "5 cm", 5.0)),
        on(ports[1], channel(&s[1], Quantity::WaterContent, "40 cm", 40.0)),
        on(ports[0], channel(&s[2], Quantity::SoilTemperature, "5 cm", 5.0)),
        on(ports[1], channel(&s[3], Quantity::SoilTemperature, "40 cm", 40.0)),
    ]
}

#[test]
fn exchanged_ports_are_one_cause_with_its_mend_and_visits_speak_for_it() {
    let s = exchanged();
    let found = run(&two_ports(&s, ["P1", "P2"]), &[]);
    let causes = of(&found, CauseKind::SwappedPorts);
    assert_eq!(causes.len(), 1);
    let (from, to) = (UnixSeconds(40 * DAY * STEP), UnixSeconds((52 * DAY - 1) * STEP));
    assert_eq!((causes[0].start, causes[0].end), (from, to));
    let ports = ["P1".to_owned(), "P2".to_owned()];
    assert_eq!(causes[0].mend, Some(Mend::Exchange { node: "node 01".into(), ports, from, to }));
    assert_eq!(causes[0].against, "No visit is noted at either end.");
    for (events, against) in [
        (vec![at_work(40)], "No visit is noted at its end."),
        (vec![at_work(52)], "No visit is noted at its beginning."),
        (vec![at_work(40), at_work(52)], ""),
    ] {
        let found = run(&two_ports(&s, ["P1", "P2"]), &events);
        assert_eq!(of(&found, CauseKind::SwappedPorts)[0].against, against);
    }
    // Where ports have no names each channel is its own, and nobody can say which plug to move.
    let found = run(&two_ports(&s, ["", ""]), &[]);
    assert!(of(&found, CauseKind::SwappedPorts).iter().all(|c| c.mend.is_none()));
}

#[test]
fn a_mend_is_kept_as_text_and_comes_back() {
    let (from, to) = (UnixSeconds(9), UnixSeconds(18));
    for mend in [
        Mend::Exchange { node: "node θ".into(), ports: ["a\"".into(), "b".into()], from, to },
        Mend::Depth { node: String::new(), port: "P1".into(), at: from, depth_cm: 12.5 },
        Mend::Anew { node: "a".into(), port: "θ".into(), at: to },
    ] {
        let json = serde_json::to_string(&mend).unwrap();
        assert_eq!(serde_json::from_str::<Mend>(&json).unwrap(), mend, "{json}");
    }
}

#[test]
fn a_wrong_depth_is_the_port_s_and_is_mended_only_where_the_wave_tells_a_depth() {
    let (five, ten, twenty, deep, wet) = (heat(5.0), heat(10.0), heat(20.0), heat(45.0), moisture(3, 10, 0.05));
    let warm = |s, name, depth| on(name, channel(s, Quantity::SoilTemperature, name, depth));
    let station = [
        warm(&five, "5 cm", 5.0),
        warm(&twenty, "20 cm", 20.0),
        warm(&ten, "50 cm", 50.0),
        warm(&deep, "45 cm", 45.0),
        on("50 cm", channel(&wet, Quantity::WaterContent, "50 cm", 50.0)),
    ];
    let found = run(&station, &[]);
    let causes = of(&found, CauseKind::WrongDepth);
    assert_eq!(causes.len(), 1);
    assert_eq!(causes[0].flags.iter().map(|f| f.0).collect::<Vec<_>>(), [2, 4], "temperature and moisture of the port");
    let Some(Mend::Depth { port, depth_cm, .. }) = &causes[0].mend else { panic!("a depth: {causes:?}") };
    assert!(port == "50 cm" && (8.0..=12.0).contains(depth_cm), "{port} {depth_cm}");
    assert!(causes[0].against.contains("another cable"));
    // With two thermometers the order is upside down, and nobody can say by how much.
    let two = [warm(&twenty, "20 cm", 20.0), warm(&ten, "50 cm", 50.0)];
    let found = run(&two, &[]);
    for cause in of(&found, CauseKind::WrongDepth) {
        assert!(cause.mend.is_none() && cause.against.contains("cannot be told"), "{cause:?}");
    }
}

#[test]
fn water_in_the_box_explains_its_own_node_and_no_other() {
    let damp = series(|i| if (50 * DAY..60 * DAY).contains(&i) { 93.0 } else { 30.0 + (i as f64 / 15.3).sin() });
    let calm = moisture(4, 2, 0.05);
    let burst = series(|i| {
        let shake = if (53 * DAY..53 * DAY + 40).contains(&i) { 0.02 * noise(5, i) } else { 0.0 };
        calm.values[i as usize] + shake
    });
    let soil = |node| Channel { node, ..channel(&burst, Quantity::WaterContent, "10 cm", 10.0) };
    let found = run(&[channel(&damp, Quantity::EnclosureHumidity, "box", 0.0), soil("node 01")], &[]);
    let wet = of(&found, CauseKind::WetBox);
    assert_eq!(wet.len(), 1);
    assert_eq!(tests(&found, wet[0]), [Test::Noise, Test::WetBox]);
    assert!(wet[0].reason.contains("explains 1 other finding"), "{}", wet[0].reason);
    let found = run(&[channel(&damp, Quantity::EnclosureHumidity, "box", 0.0), soil("node 02")], &[]);
    assert!(of(&found, CauseKind::WetBox).is_empty(), "another box");
}

#[test]
fn a_port_without_a_probe_is_one_thing_and_strays_of_a_port_are_one_thing() {
    let (wet, warm) = (moisture(6, 2, 0.05), heat(10.0));
    let out = |s: &Series| series(|i| if (30 * DAY..33 * DAY).contains(&i) { 0.0 } else { s.values[i as usize] });
    let (a, b) = (out(&wet), out(&warm));
    let port = [
        on("P1", channel(&a, Quantity::WaterContent, "10 cm", 10.0)),
        on("P1", channel(&b, Quantity::SoilTemperature, "10 cm", 10.0)),
    ];
    let found = run(&port, &[]);
    let plugs = of(&found, CauseKind::BadPlug);
    assert_eq!((plugs.len(), plugs[0].flags.len()), (1, 2));
    assert!(plugs[0].reason.starts_with("No probe answered at the port of 10 cm for"), "{}", plugs[0].reason);

    let stray = |n: usize| {
        let at = [20 * DAY + 7, 47 * DAY + 30, 70 * DAY + 5, 99 * DAY + 11];
        series(|i| wet.values[i as usize] + if at[..n].contains(&i) { -0.09 } else { 0.0 })
    };
    let (three, two) = (stray(3), stray(2));
    let found = run(&[channel(&three, Quantity::WaterContent, "10 cm", 10.0)], &[]);
    let strays = of(&found, CauseKind::StrayReadings);
    assert_eq!((strays.len(), strays[0].flags.len()), (1, 3));
    assert!(strays[0].reason.contains("at 3 moments"), "{}", strays[0].reason);
    let found = run(&[channel(&two, Quantity::WaterContent, "10 cm", 10.0)], &[]);
    assert!(of(&found, CauseKind::StrayReadings).is_empty(), "two are two");
}

#[test]
fn a_clock_that_was_set_gathers_what_came_twice_and_a_backlog_is_one_thing() {
    let (a, b, c) = (heat(5.0), heat(20.0), moisture(7, 2, 0.1));
    let again = |s: &Series| -> Vec<Repeat> {
        let one = |i: i64| Repeat {
            time: UnixSeconds(i * STEP),
            first: s.values[i as usize],
            later: s.values[i as usize] + 0.2,
        };
        (50 * DAY..50 * DAY + 4).map(one).collect()
    };
    let repeats = [again(&a), again(&b), again(&c)];
    let node = [
        Channel { repeats: &repeats[0], ..channel(&a, Quantity::SoilTemperature, "5 cm", 5.0) },
        Channel { repeats: &repeats[1], ..channel(&b, Quantity::SoilTemperature, "20 cm", 20.0) },
        Channel { repeats: &repeats[2], ..channel(&c, Quantity::WaterContent, "15 cm", 15.0) },
    ];
    let found = run(&node, &[]);
    let set = of(&found, CauseKind::ClockSet);
    assert_eq!((set.len(), set[0].flags.len()), (1, 6), "{:?}", found.causes);
    assert_eq!(tests(&found, set[0]), [Test::Repeated, Test::Clock]);
    assert!(set[0].against.contains("No visit"));
    // With the same values nothing was set: the records were sent twice.
    let same: Vec<Vec<Repeat>> =
        repeats.iter().map(|of| of.iter().map(|r| Repeat { later: r.first, ..*r }).collect()).collect();
    let twice: Vec<Channel<'_>> = node.iter().zip(&same).map(|(c, repeats)| Channel { repeats, ..c.clone() }).collect();
    let found = run(&twice, &[]);
    assert!(of(&found, CauseKind::ClockSet).is_empty());
    assert_eq!(of(&found, CauseKind::SentAgain).len(), 1);
}

#[test]
fn water_along_a_cable_and_water_that_no_gauge_saw_are_told_once() {
    let gauge = rain();
    let upper = moisture(8, 16, 0.1);
    let deep = series(|i| rounded(0.22 + wetting(i, &STORMS[2..7], 3, 0.07) + 6e-4 * noise(9, i), 1e-4));
    let station = [
        channel(&upper, Quantity::WaterContent, "10 cm", 10.0),
        channel(&deep, Quantity::WaterContent, "50 cm", 50.0),
        channel(&gauge, Quantity::Rain, "gauge", 0.0),
    ];
    let found = run(&station, &[]);
    let bypass = of(&found, CauseKind::Bypass);
    assert_eq!((bypass.len(), bypass[0].flags.len()), (1, 5));
    assert!(bypass[0].against.contains("root channels"));

    let blocked = |seed, lag, height| {
        let sound = moisture(seed, lag, height);
        series(move |i| {
            let since = i - 70 * DAY - lag;
            let unseen = if since < 0 { 0.0 } else { 0.07 * (-(since as f64) / 500.0).exp() };
            sound.values[i as usize] + unseen
        })
    };
    let (a, b) = (blocked(10, 2, 0.08), blocked(11, 8, 0.06));
    let station = [
        channel(&a, Quantity::WaterContent, "8 cm", 8.0),
        channel(&b, Quantity::WaterContent, "20 cm", 20.0),
        channel(&gauge, Quantity::Rain, "gauge", 0.0),
    ];
    let found = run(&station, &[]);
    let unseen = of(&found, CauseKind::UnseenWater);
    assert_eq!((unseen.len(), unseen[0].flags.len()), (1, 2), "{:?}", found.flags);
    assert!(unseen[0].reason.starts_with("2 probes wetted together"), "{}", unseen[0].reason);
}

#[test]
fn frost_is_a_winter_s_and_people_are_a_visit_s() {
    let cold = series(|i| if [10, 14, 30, 118].contains(&(i / DAY)) { -0.8 } else { 6.0 + 0.05 * noise(12, i) });
    let wet = moisture(13, 2, 0.02);
    let station = [
        channel(&wet, Quantity::WaterContent, "5 cm", 5.0),
        channel(&cold, Quantity::SoilTemperature, "5 cm", 5.0),
        channel(&wet, Quantity::WaterContent, "6 cm", 6.0),
    ];
    let found = run(&station, &[at_work(60), at_work(90)]);
    let frost: Vec<usize> = of(&found, CauseKind::Frost).iter().map(|c| c.flags.len()).collect();
    assert_eq!(frost, [6, 2], "three spells of two probes, and months later another");
    let work = of(&found, CauseKind::AtWork);
    assert_eq!(work.len(), 2);
    assert!(work.iter().all(|c| tests(&found, c) == [Test::Visit] && c.flags.len() == 3), "{work:?}");
}

#[test]
fn twins_that_part_by_a_jump_are_one_thing_with_the_jump() {
    let (a, b) = (moisture(14, 2, 0.06), moisture(15, 2, 0.06));
    let b = series(|i| b.values[i as usize] - if (70 * DAY + 40..95 * DAY).contains(&i) { 0.06 } else { 0.0 });
    let pair = [
        on("P1", channel(&a, Quantity::WaterContent, "20 cm", 20.0)),
        on("P2", channel(&b, Quantity::WaterContent, "20 cm b", 20.0)),
    ];
    let found = run(&pair, &[]);
    let twins = of(&found, CauseKind::TwinsApart);
    assert_eq!(twins.len(), 1);
    assert_eq!(tests(&found, twins[0]), [Test::Step, Test::PairApart], "{:?}", found.flags);
    assert!(twins[0].reason.starts_with("20 cm and 20 cm b go apart"), "{}", twins[0].reason);
}

#[test]
fn every_kind_has_a_title_and_a_code_of_its_own() {
    let mut titles: Vec<&str> = CauseKind::ALL.iter().map(|k| k.title()).collect();
    titles.sort_unstable();
    titles.dedup();
    assert_eq!(titles.len(), CauseKind::ALL.len());
    assert!(CauseKind::ALL.iter().all(|k| CauseKind::from_code(k.code()) == Some(*k)));
    assert_eq!(DAYS, 120, "the days that this file counts on");
}

#[test]
fn a_jump_that_stays_is_a_probe_that_moved_and_one_that_leads_back_is_not() {
    let level = |jump: i64, back: i64| {
        let base = moisture(3, 10, 0.05);
        series(|i| base.values[i as usize] - if (jump * DAY..back * DAY).contains(&i) { 0.06 } else { 0.0 })
    };
    let (stays, leads_back, quiet) = (level(60, 1000), level(60, 64), moisture(5, 20, 0.04));
    let run_of = |s: &Series, events: &[Event]| {
        let station = [
            on("P1", channel(s, Quantity::WaterContent, "20 cm", 20.0)),
            on("P2", channel(&quiet, Quantity::WaterContent, "40 cm", 40.0)),
        ];
        run(&station, events)
    };
    let found = run_of(&stays, &[]);
    let causes = of(&found, CauseKind::MovedProbe);
    assert_eq!(causes.len(), 1, "{:?}", found.flags[0]);
    let at = UnixSeconds(60 * DAY * STEP);
    assert_eq!(causes[0].mend, Some(Mend::Anew { node: "node 01".into(), port: "P1".into(), at }));
    assert!(causes[0].against.contains("No visit is noted then") && causes[0].reason.contains("moved or pulled"));
    let visited = run_of(&stays, &[at_work(60)]);
    assert_eq!(of(&visited, CauseKind::MovedProbe)[0].against, "");
    assert!(of(&run_of(&leads_back, &[]), CauseKind::MovedProbe).is_empty());
}
