//! Two people, two tabs, two processes: nothing that was typed or stored is lost.

use super::bench::{RUN, rows};
use super::client::Visitor;
use serde_json::json;

/// The revision that stands in a page's form.
fn revision(page: &str) -> String {
    page.split("name=\"revision\" value=\"").nth(1).unwrap().split('"').next().unwrap().to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn of_two_tabs_on_a_plan_neither_loses_a_field() {
    let v = Visitor::owner().await;
    let depths = "/stations/1/plan/depths";
    v.post(depths, &[("figures.roots_cm", "40"), ("do", "take.rooting")]).await;
    let opened = revision(&v.page(depths).await);
    let save = |path: &'static str, text: &'static str| {
        let (v, opened) = (v.another_tab(), opened.clone());
        async move { v.post(depths, &[(path, text), ("revision", &opened)]).await.status() }
    };
    assert_eq!(save("probes.0.depth_cm", "7").await, 303);
    assert_eq!(save("probes.1.depth_cm", "33").await, 303, "from a page that was opened before the first was saved");
    let plan = v.page("/stations/1/plan/plan.json").await;
    assert!(plan.contains("\"depth_cm\": 7.0") && plan.contains("\"depth_cm\": 33.0"), "{plan}");

    assert_eq!(save("probes.0.depth_cm", "9").await, 303);
    let told = v.page(depths).await;
    assert!(told.contains("Somebody else changed this meanwhile"), "{told}");
    assert!(told.contains("you typed “9”, “7” stands"));
    let newest = revision(&v.page(depths).await);
    v.post(depths, &[("probes.0.depth_cm", "9"), ("revision", &newest)]).await;
    assert!(v.page("/stations/1/plan/plan.json").await.contains("\"depth_cm\": 9.0"), "typed again, it is taken");
}

#[tokio::test(flavor = "multi_thread")]
async fn of_two_tabs_on_a_design_or_a_sheet_neither_loses_a_field() {
    let v = Visitor::owner().await;
    v.post("/studies/1/design", &[("do", "add"), ("question", "Does mulch help?")]).await;
    let sheet = v.post("/studies/1/batch", &[]).await.headers()["location"].to_str().unwrap().to_owned();
    v.post(&sheet, &[("medium", "moist sand"), ("tolerance", "20")]).await;
    let pages = [
        ("/studies/1/design", "question", ["Does mulch help?", "Does mulch save water?", "Does bark help?"], "months"),
        (&*sheet, "medium", ["moist sand", "θ of wet sand", "air"], "tolerance"),
    ];
    for (path, shared, [_, first, second], other) in pages {
        let opened = revision(&v.page(path).await);
        assert_eq!(v.post(path, &[(shared, first), ("revision", &opened)]).await.status(), 303);
        v.post(path, &[(other, "17"), ("revision", &opened)]).await;
        let page = v.page(path).await;
        assert!(page.contains(first) && page.contains("value=\"17\""), "{path}: both changes stand");
        v.post(path, &[(shared, second), ("revision", &opened)]).await;
        let told = v.page(path).await;
        assert!(told.contains(&format!("{shared}: you typed “{second}”, “{first}” stands")), "{path}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_page_so_old_that_nobody_remembers_it_overwrites_nothing() {
    let v = Visitor::owner().await;
    let design = "/studies/1/design";
    v.post(design, &[("months", "6"), ("interval_min", "15")]).await;
    let opened = revision(&v.page(design).await);
    for i in 0..=200 {
        assert_eq!(v.post(design, &[("months", &format!("{}", 7 + i % 2))]).await.status(), 303);
    }
    let whole = [("months", "6"), ("interval_min", "30"), ("revision", &*opened)];
    v.post(design, &whole).await;
    let page = v.page(design).await;
    assert!(page.contains("months: you typed “6”, “7” stands"), "{page}");
    assert!(page.contains("interval min: you typed “30”, “15” stands"));
}

#[tokio::test(flavor = "multi_thread")]
async fn sixteen_saves_at_once_are_all_kept() {
    let v = Visitor::owner().await;
    let depths = "/stations/1/plan/depths";
    v.post(depths, &[("figures.roots_cm", "40"), ("do", "take.rooting")]).await;
    let opened = revision(&v.page(depths).await);
    let figures = [
        "roots_cm",
        "stones_pct",
        "water_today",
        "tool_clearance_cm",
        "hole_diameter_cm",
        "hole_angle_deg",
        "ground_slope_deg",
        "hole_spacing_cm",
    ];
    let saves = figures.iter().enumerate().map(|(i, figure)| {
        let (v, opened) = (v.another_tab(), opened.clone());
        let (path, text) = (format!("figures.{figure}"), format!("{}", 41 + i));
        tokio::spawn(async move { v.post(depths, &[(&path, &text), ("revision", &opened)]).await.status().as_u16() })
    });
    for save in saves.collect::<Vec<_>>() {
        assert_eq!(save.await.unwrap(), 303);
    }
    let plan = v.page("/stations/1/plan/plan.json").await;
    for (i, figure) in figures.iter().enumerate() {
        assert!(plan.contains(&format!("\"{figure}\": {}.0", 41 + i)), "{figure}: {plan}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_typed_on_two_machines_has_the_rows_of_both() {
    let v = Visitor::owner().await;
    v.post("/studies/1/bench", &[("probe", "")]).await;
    let body = |rows: &Vec<serde_json::Value>, revision: i64| json!({"title": "One run", "probe": null, "revision": revision, "draft": {"unit": "mV", "rows": rows}});
    let all = rows(&RUN);
    let first: serde_json::Value = v.type_run("/bench/1", &body(&all, 0)).await;
    assert_eq!(first["revision"].as_i64(), Some(1));
    let (mut mine, mut theirs) = (all.clone(), all.clone());
    mine[0]["tin"] = "A1".into();
    theirs[3]["raw"] = "1341".into();
    v.type_run("/bench/1", &body(&theirs, 1)).await;
    let merged: serde_json::Value = v.type_run("/bench/1", &body(&mine, 1)).await;
    assert_eq!((&merged["rows"][0]["tin"], &merged["rows"][3]["raw"]), (&json!("A1"), &json!("1341")));
    assert!(merged["conflicts"].is_null());
    mine[3]["raw"] = "1399".into();
    let both: serde_json::Value = v.type_run("/bench/1", &body(&mine, 1)).await;
    assert!(both["conflicts"].as_str().unwrap().contains("you typed “1399”, “1341” stands"), "{both}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_models_curve_under_two_words_for_one_soil_leaves_every_page_open() {
    let v = Visitor::of_demo().await;
    let probe = super::bench::probe_of_port(&v, "BD-0422").await;
    let form = [("form", ""), ("valid_from", "2024-03-01"), ("serves", "model")];
    for soil in ["silty clay loam", "Bt", "Silty Clay Loam"] {
        let draft = json!({"unit": "mV", "density": "1.5", "soil": soil, "rows": rows(&RUN)});
        v.type_run("/bench/4", &json!({"title": "Blades", "probe": probe, "draft": draft})).await;
        let adopted = v.post("/bench/4/adopt", &form).await;
        assert_eq!(adopted.status(), 303, "{soil}: {}", adopted.text().await.unwrap());
        for path in ["/studies/1", "/stations/1", "/stations/1/review", "/stations/1/export", "/studies/1/bench"] {
            v.page(path).await;
        }
    }
    let probe = v.page("/probes/BD-0422").await;
    assert!(probe.contains("begin at the same moment"), "it is said at the probe: {probe}");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_import_that_is_refused_half_way_leaves_nothing_behind() {
    let v = Visitor::owner().await;
    let first = v
        .upload("a.csv", b"# node 01\ntime,t05 [degC],m05 [mV]\n2026-03-01 00:00,4.1,900\n2026-03-01 00:15,4.2,901\n")
        .await;
    let first = first.headers()["location"].to_str().unwrap().to_owned();
    v.send_plan(&first, &[("quantity-0", ""), ("do", "store")]).await;
    let before = v.page("/stations/1/placements").await;
    // The second column's port has spoken mV so far.
    let second = v
        .upload(
            "b.csv",
            b"# node 01\ntime,t05 [degC],m05 [counts]\n2026-03-02 00:00,4.1,900\n2026-03-02 00:15,4.2,901\n",
        )
        .await;
    let second = second.headers()["location"].to_str().unwrap().to_owned();
    let refused = v.send_plan(&second, &[("do", "store")]).await.text().await.unwrap();
    assert!(refused.contains("raw output in mV so far; this file gives counts"), "{refused}");
    let store = ebrel_store::Store::open(&v.data().join("ebrel.db")).await.unwrap();
    assert_eq!(store.streams(1).await.unwrap().len(), 1, "no stream of the first column");
    let rows = |page: &str| page.matches("name=\"serial\"").count();
    assert_eq!(rows(&v.page("/stations/1/placements").await), rows(&before), "and no placement");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_command_stores_beside_the_server_is_on_the_next_page() {
    let v = Visitor::owner().await;
    let file = |from: i64| {
        let mut text = String::from("time,m05 [mV]\n");
        for i in from..from + 200 {
            text += &format!("{},{}\n", 1_772_323_200 + i * 900, 900 + i);
        }
        text
    };
    let preview = v.upload("first.csv", file(0).as_bytes()).await.headers()["location"].to_str().unwrap().to_owned();
    v.send_plan(&preview, &[("do", "store")]).await;
    v.page("/stations/1").await;
    // The other process: a store of its own on the same file.
    let store = ebrel_store::Store::open(&v.data().join("ebrel.db")).await.unwrap();
    let stream = store.streams(1).await.unwrap()[0].id;
    let reading = |i: i64| ebrel_store::readings::Reading { stream, t: 1_772_323_200 + i * 900, raw: 900.0 };
    let origin =
        ebrel_store::batches::Origin::of(ebrel_store::batches::Source::Message, ebrel_core::units::UnixSeconds(0));
    store.add_readings(&origin, (200..300).map(reading).collect()).await.unwrap();
    let table = v.page("/stations/1/export/wide.csv?from=2026-01-01&to=2027-01-01&leave_out=none").await;
    assert_eq!(table.lines().count(), 301, "{}", &table[..300]);
}
