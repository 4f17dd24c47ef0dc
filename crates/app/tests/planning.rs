//! A station's plan without pages: what is kept, what it says of its station, and two who keep at once.

mod common;

use common::station;
use ebrel_app::planning::{PlanError, StationPlan, catalogue, study_design};
use ebrel_core::planning::{Draft, HorizonDraft};
use ebrel_core::units::UnixSeconds;
use ebrel_store::StoreError;

fn draft(depth: &str, treatment: &str) -> Draft {
    let topsoil =
        HorizonDraft { name: "A".into(), bottom_cm: depth.into(), density: "1.3".into(), ..Default::default() };
    Draft { treatment: treatment.into(), latitude: "46.9".into(), horizons: vec![topsoil], ..Draft::default() }
}

const BY: (&str, &str) = ("soil", "N. Arvel");

#[tokio::test]
async fn a_plan_describes_its_station_and_comes_back_as_typed() {
    let (store, id, _dir) = station().await;
    let mut plan = StationPlan::load(&store, id).await.unwrap();
    assert_eq!((plan.version, plan.revision), (0, 0));
    plan.keep(&store, draft("22", "kept wet, “θ”"), BY, UnixSeconds(5)).await.unwrap();
    let again = StationPlan::load(&store, id).await.unwrap();
    assert_eq!((again.draft, again.version, again.revision), (draft("22", "kept wet, “θ”"), 1, plan.revision));
    assert_eq!((again.station.treatment.as_str(), again.station.latitude), ("kept wet, “θ”", Some(46.9)));
    assert_eq!(store.profile(id).await.unwrap().at(10.0).unwrap().bulk_density_g_cm3, Some(1.3));
    let study = store.study(again.station.study_id).await.unwrap();
    let design = study_design(&store, &study).await.unwrap();
    assert_eq!(&*design.question, "When does growth “stop”?", "the study's own question stands in its design");
}

#[tokio::test]
async fn soil_that_cannot_be_read_is_kept_as_typed_and_passed_on_to_nobody() {
    let (store, id, _dir) = station().await;
    let mut plan = StationPlan::load(&store, id).await.unwrap();
    plan.keep(&store, draft("22", ""), BY, UnixSeconds(5)).await.unwrap();
    plan.keep(&store, draft("deep", ""), BY, UnixSeconds(6)).await.unwrap();
    assert_eq!(store.profile(id).await.unwrap().horizons()[0].bottom_cm, 22.0);
    let typed = StationPlan::load(&store, id).await.unwrap();
    assert_eq!(&*typed.draft.horizons[0].bottom_cm, "deep");
    assert!(typed.found.remarks.iter().any(|r| r.at == "horizons.0.bottom_cm"));
}

#[tokio::test]
async fn who_keeps_late_is_told_and_changes_neither_plan_nor_station() {
    let (store, id, _dir) = station().await;
    let mut first = StationPlan::load(&store, id).await.unwrap();
    let mut late = StationPlan::load(&store, id).await.unwrap();
    first.keep(&store, draft("22", "cut"), BY, UnixSeconds(5)).await.unwrap();
    let refused = late.keep(&store, draft("40", "uncut"), BY, UnixSeconds(6)).await;
    assert!(matches!(refused, Err(PlanError::Store(StoreError::Stale))), "{refused:?}");
    assert_eq!(late.draft.treatment.to_string(), "", "what was refused is not taken for kept");
    let stands = StationPlan::load(&store, id).await.unwrap();
    assert_eq!((stands.draft, stands.station.treatment.as_str()), (draft("22", "cut"), "cut"));
    assert_eq!(store.profile(id).await.unwrap().horizons()[0].bottom_cm, 22.0);
}

#[tokio::test]
async fn a_catalogue_that_cannot_be_read_is_an_error_and_not_the_shipped_one() {
    let (store, id, _dir) = station().await;
    assert!(!catalogue(&store).await.unwrap().probes.is_empty(), "the shipped one");
    store.keep_catalogue(0, Some("{\"probes\": 7}")).await.unwrap();
    assert!(matches!(catalogue(&store).await, Err(PlanError::Catalogue(_))));
    assert!(matches!(StationPlan::load(&store, id).await, Err(PlanError::Catalogue(_))));
    assert!(matches!(StationPlan::load(&store, 999).await, Err(PlanError::Store(StoreError::NotFound(_)))));
}
