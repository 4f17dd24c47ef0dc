//! The practice bench under any hands: steps in any order leave it sound, repeatable and honest.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on shall panic")]

use ebrel_core::calibration::{Form, Samples, recommend};
use ebrel_simulator::practice::{CORER_CM3, Ending, POINTS, Point, Practice, Slip, Step, Work};
use ebrel_simulator::{BenchRun, PracticeThermometer, SETTINGS_C, blade_dielectric_curve, drying_container};
use proptest::prelude::*;

fn any_step() -> impl Strategy<Value = Step> {
    prop_oneof![
        4 => Just(Step::Pack),
        4 => Just(Step::Read),
        2 => Just(Step::Press),
        4 => Just(Step::Core),
        1 => Just(Step::Wipe),
        4 => (50u16..400).prop_map(Step::Water),
        1 => (1u16..30).prop_map(Step::Oven),
        1 => Just(Step::Reveal),
    ]
}

/// Whether nothing at the bench contradicts itself.
fn sound(work: &Work) -> Result<(), TestCaseError> {
    prop_assert!(work.points.len() <= POINTS);
    for point in &work.points {
        prop_assert!(point.readings_mv.iter().all(|r| (250.0..2500.0).contains(r)), "{:?}", point.readings_mv);
        if let Some((tare, wet)) = point.tin {
            prop_assert!(wet > tare + 30.0 && wet < tare + 130.0, "{tare} {wet}");
            prop_assert!(point.dry_g.iter().all(|d| *d > tare && *d < wet + 0.05), "{:?} of {wet}", point.dry_g);
            prop_assert!(point.dry_g.windows(2).all(|w| w[1] < w[0] + 0.05), "a tin does not gain: {:?}", point.dry_g);
        } else {
            prop_assert!(point.dry_g.is_empty(), "what is in no tin is not dried");
        }
    }
    Ok(())
}

proptest! {
    #[test]
    fn any_hands_leave_a_sound_bench(seed in 1u64..500, steps in prop::collection::vec(any_step(), 0..60)) {
        let mut practice = Practice::new(seed);
        for step in steps {
            let before = practice.clone();
            match practice.take(step) {
                Ok(work) => {
                    prop_assert_eq!(practice.steps.len(), before.steps.len() + 1);
                    prop_assert_eq!(&work, &practice.work(), "played again it is the same");
                    sound(&work)?;
                }
                Err(says) => {
                    prop_assert!(says.ends_with('.') && says.len() > 15, "a refusal is a sentence: {says}");
                    prop_assert_eq!(&practice, &before, "and changes nothing");
                }
            }
        }
        let text = serde_json::to_string(&practice).expect("JSON");
        prop_assert_eq!(serde_json::from_str::<Practice>(&text).expect("a practice"), practice);
    }

    #[test]
    fn every_practice_hides_each_slip_once_and_never_at_the_ends(seed in 1u64..500) {
        let mut practice = Practice::new(seed);
        for point in 0..POINTS {
            for step in [Step::Pack, Step::Read, Step::Core] {
                practice.take(step).unwrap();
            }
            if point + 1 < POINTS {
                practice.take(Step::Water(180)).unwrap();
            }
        }
        let fates = practice.take(Step::Oven(24)).unwrap().fates(&[]);
        let mut points: Vec<usize> = fates.iter().map(|f| f.point).collect();
        points.dedup();
        prop_assert_eq!(points.len(), 4, "one slip a point");
        prop_assert!(points.iter().all(|p| (1..POINTS - 1).contains(p)), "{:?}", points);
        for slip in [Slip::WrongDensity, Slip::WetLid, Slip::MovedProbe, Slip::EarlyOven] {
            prop_assert_eq!(fates.iter().filter(|f| f.slip == slip && f.ending == Ending::InTheFit).count(), 1);
        }
    }

    #[test]
    fn the_bath_comes_to_rest(seed in 0u64..200, setting in 0usize..5) {
        let probe = PracticeThermometer::of(seed);
        let bath = SETTINGS_C[setting];
        let rested = probe.read(bath, 15.0, seed);
        let truth = bath + probe.offset + probe.slope * bath;
        prop_assert!(rested.probe.iter().all(|p| (p - truth).abs() < 0.15), "{:?} of {truth}", rested.probe);
        prop_assert!((rested.reference - bath).abs() < 0.15);
    }

    #[test]
    fn a_drifting_packing_shows_in_its_tins(serial in 400u32..440, drift in 0.06..0.14f64) {
        let thetas = [0.08, 0.13, 0.18, 0.23, 0.28, 0.33, 0.38];
        let run = |packing_drift| BenchRun { serial, density: 1.3, volume_cm3: 50.0, thetas: &thetas, outlier: None, packing_drift };
        let density = |drift: f64| -> Vec<f64> {
            run(drift).samples().iter().map(|t| (t.dry_g - t.tare_g) / 50.0).collect()
        };
        let (steady, drifted) = (density(0.0), density(drift));
        prop_assert!((drifted[6] / steady[6] - 1.0 - drift).abs() < 0.002);
        prop_assert!((drifted[0] - steady[0]).abs() < 1e-9);
        let wetter = run(drift).samples()[6].raw_mv - run(0.0).samples()[6].raw_mv;
        prop_assert!(wetter > 10.0, "denser soil reads wetter: {wetter}");
    }
}

#[test]
fn a_container_that_dries_follows_the_true_curve() {
    let thetas = [0.45, 0.35, 0.25, 0.15];
    let looks = drying_container(421, &thetas, 6000.0);
    let [a, b, c] = blade_dielectric_curve(421);
    for ((raw, gross), theta) in looks.iter().zip(thetas) {
        assert!((a + b * raw + c * raw * raw - theta).abs() < 0.01, "{raw} mV at {theta}");
        assert!(((gross - 6000.0) / 4000.0 - theta).abs() < 0.001);
    }
    assert!(looks.windows(2).all(|w| w[1].0 < w[0].0 && w[1].1 < w[0].1), "drier reads lower and weighs less");
}
/// Seven points as a beginner takes them; `careful` mends what can be mended.
fn run(seed: u64, careful: bool) -> Practice {
    let mut practice = Practice::new(seed);
    for point in 0..POINTS {
        let mut take = |step| practice.take(step).map(|_| ());
        take(Step::Pack).unwrap();
        if careful {
            take(Step::Pack).unwrap();
        }
        take(if careful { Step::Press } else { Step::Read }).unwrap();
        take(Step::Core).unwrap();
        if careful {
            take(Step::Wipe).unwrap();
        }
        if point + 1 < POINTS {
            take(Step::Water(200)).unwrap();
        }
    }
    practice.take(Step::Oven(24)).unwrap();
    if careful {
        practice.take(Step::Oven(24)).unwrap();
    }
    practice.take(Step::Reveal).unwrap();
    practice
}

fn miss(work: &Work, left_out: &[bool]) -> f64 {
    let kept: Vec<&Point> =
        work.points.iter().enumerate().filter(|(i, _)| !left_out.get(*i).unwrap_or(&false)).map(|p| p.1).collect();
    let raw: Vec<f64> = kept.iter().map(|p| p.readings_mv.iter().sum::<f64>() / 3.0).collect();
    let theta: Vec<f64> = kept.iter().map(|p| (p.tin.unwrap().1 - p.dry_g.last().unwrap()) / CORER_CM3).collect();
    let found = recommend(&Samples { raw: &raw, theta: &theta, ..Samples::default() });
    let curve = found.candidate(found.form.unwrap_or(Form::Line)).unwrap();
    work.miss((raw[0], raw[raw.len() - 1]), |mv| curve.at(mv).unwrap().0)
}

#[test]
fn the_same_steps_give_the_same_bench() {
    assert_eq!(run(3, false).work(), run(3, false).work());
    assert_ne!(run(3, false).work(), run(4, false).work());
}

#[test]
fn slips_cost_and_mending_them_pays() {
    for seed in 1..=8 {
        let (careless, careful) = (run(seed, false).work(), run(seed, true).work());
        let (worse, better) = (miss(&careless, &[]), miss(&careful, &[]));
        assert!(better < 0.012 && better < worse / 1.5, "seed {seed}: {better} against {worse}");
        let endings = |w: &Work| w.fates(&[]).iter().map(|f| f.ending).collect::<Vec<_>>();
        assert_eq!(endings(&careless), [Ending::InTheFit; 4]);
        assert_eq!(endings(&careful), [Ending::Mended; 4]);
    }
}

#[test]
fn each_slip_shows_its_sign() {
    let work = run(5, false).work();
    for fate in work.fates(&[]) {
        let point = &work.points[fate.point];
        let (tare, _) = point.tin.unwrap();
        let density = (point.dry_g[0] - tare) / CORER_CM3 / work.field_density;
        let spread = point.readings_mv[2] - point.readings_mv[0];
        match fate.slip {
            Slip::WrongDensity => assert!(density > 1.05, "{density}"),
            Slip::MovedProbe => assert!(spread > 30.0, "{spread}"),
            Slip::WetLid => assert!((density - 1.0).abs() < 0.03 && spread.abs() < 5.0),
            Slip::EarlyOven => assert!(work.fates(&[]).len() == 4),
        }
    }
    let mut longer = run(5, false);
    let again = longer.take(Step::Oven(4)).unwrap();
    let early = work.fates(&[]).into_iter().find(|f| f.slip == Slip::EarlyOven).unwrap().point;
    let loss = |p: &Point| p.dry_g[0] - p.dry_g[1];
    assert!(loss(&again.points[early]) > 0.3, "{}", loss(&again.points[early]));
    assert!(again.points.iter().enumerate().all(|(i, p)| i == early || loss(p).abs() < 0.06));
}

#[test]
fn leaving_the_slips_out_counts_too() {
    let work = run(6, false).work();
    let mut out = vec![false; POINTS];
    for fate in work.fates(&out) {
        out[fate.point] = true;
    }
    assert!(work.fates(&out).iter().all(|f| f.ending == Ending::LeftOut));
}

#[test]
fn steps_out_of_order_are_refused_with_what_comes_first() {
    let mut practice = Practice::new(1);
    assert!(practice.take(Step::Read).unwrap_err().contains("Pack the container first"));
    assert!(practice.take(Step::Core).unwrap_err().contains("Read the probe before"));
    assert!(practice.take(Step::Oven(24)).unwrap_err().contains("no tin"));
    assert!(practice.take(Step::Reveal).unwrap_err().contains("Dry the tins first"));
    practice.take(Step::Pack).unwrap();
    practice.take(Step::Read).unwrap();
    assert!(practice.take(Step::Water(250)).unwrap_err().contains("take the core"));
    practice.take(Step::Core).unwrap();
    assert!(practice.take(Step::Pack).is_err() && practice.take(Step::Core).is_err());
    assert!(practice.take(Step::Water(60_000)).unwrap_err().contains("more water than the pores"));
    assert_eq!(practice.steps, [Step::Pack, Step::Read, Step::Core], "what was refused is not on record");
}
