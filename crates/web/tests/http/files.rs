//! Logger files on the page: several at once, losses, an import set aside and read anew, recipes that are found again.

use super::client::Visitor;
use std::io::Write;

fn file(from: i64, lines: i64) -> String {
    let line = |i: i64| format!("{},{}.5,4.{}\n", 1_772_323_200 + i * 900, 880 + i.rem_euclid(7), i.rem_euclid(10));
    format!("ts,m05 [mV],t05 [degC]\n{}", (from..from + lines).map(line).collect::<String>())
}

async fn begin(v: &Visitor, name: &str, bytes: &[u8]) -> String {
    let answer = v.upload(name, bytes).await;
    assert_eq!(answer.status(), 303, "{}", answer.text().await.unwrap());
    answer.headers()["location"].to_str().unwrap().to_owned()
}

fn zipped(files: &[(&str, &str)]) -> Vec<u8> {
    let mut zip = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    for (name, text) in files {
        zip.start_file(*name, zip::write::SimpleFileOptions::default()).unwrap();
        zip.write_all(text.as_bytes()).unwrap();
    }
    zip.finish().unwrap().into_inner()
}

#[tokio::test(flavor = "multi_thread")]
async fn an_archive_is_read_file_by_file_and_what_leaves_no_question_is_stored() {
    let v = Visitor::owner().await;
    let letter = "Dear all,\nthe logger is in the hut.\n";
    let one = file(0, 50);
    let two = file(50, 60);
    let archive = zipped(&[("a.csv", &one), ("b.csv", &two), ("letter.txt", letter), (".secret", "x")]);
    let list = begin(&v, "season.zip", &archive).await;
    assert!(list.starts_with("/stations/1/import?these="), "{list}");
    let page = v.page(&list).await;
    for name in ["season.zip/a.csv", "season.zip/b.csv", "season.zip/letter.txt"] {
        assert!(page.contains(name), "{name}");
    }
    assert!(!page.contains("secret"));
    let numbers = list.split("these=").nth(1).unwrap().to_owned();
    assert_eq!(v.post("/stations/1/imports", &[("imports", &numbers)]).await.status(), 303);
    let page = v.page(&list).await;
    assert!(page.contains("50 records new, 0 known") && page.contains("60 records new, 0 known"), "{page}");
    assert_eq!(
        page.matches("begun, nothing stored: 1 question is open").count(),
        1,
        "the letter waits to be told by hand"
    );
    let letter = v.page("/imports/3").await;
    assert!(letter.contains("is it the right file?</p>"), "{letter}");
    assert!(letter.contains("No record was found in it.") && letter.contains("2 lines: 2 header lines."), "{letter}");
    assert!(!letter.contains("What each column is") && !letter.contains("every line could be read"), "{letter}");
}

#[tokio::test(flavor = "multi_thread")]
async fn every_line_is_told_of_and_every_loss_is_in_a_file() {
    let v = Visitor::owner().await;
    let mut text = file(0, 300);
    (300..350).for_each(|i| text += &format!("{},ERR,4.1\n", 1_772_323_200 + i * 900));
    text += "noise ~~\n\n1772";
    let plan = begin(&v, "node.csv", text.as_bytes()).await;
    let page = v.page(&plan).await;
    assert!(
        page.contains("354 lines: 350 records, 1 header line, 1 blank line, 2 lines that could not be read."),
        "{page}"
    );
    assert!(page.contains("m05 [mV]: “ERR” is no number") && page.contains("50 cells, lines 302 to 351"), "{page}");
    v.send_plan(&plan, &[("do", "store")]).await;
    let report = v.page(&plan).await;
    assert!(
        report.contains("Every line of the file: 354") && report.contains("50 cells, lines 302 to 351"),
        "{report}"
    );
    let losses = v.page(&format!("{plan}/losses")).await;
    assert_eq!(losses.lines().count(), 1 + 52, "one line for each");
    assert!(losses.contains("302,m05 [mV]: “ERR” is no number,"), "{losses}");
    assert_eq!(v.page(&format!("{plan}/file")).await, text, "the file as it came");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_import_is_set_aside_with_a_reason_and_read_anew_with_another_clock() {
    let v = Visitor::owner().await;
    let written = file(0, 200).replace("ts,", "time,");
    let local = written.lines().enumerate().map(|(i, line)| match line.split_once(',') {
        Some((t, rest)) if i > 0 => {
            let time = ebrel_formats::rfc3339(ebrel_core::units::UnixSeconds(t.parse().unwrap()));
            format!("{},{rest}\n", time.replace('T', " ").replace('Z', ""))
        }
        _ => format!("{line}\n"),
    });
    let plan = begin(&v, "node.csv", local.collect::<String>().as_bytes()).await;
    v.send_plan(&plan, &[("do", "store")]).await;
    let without = v.post(&format!("{plan}/withdraw"), &[("why", " ")]).await.text().await.unwrap();
    assert!(without.contains("Give the reason."), "{without}");
    assert_eq!(v.post(&format!("{plan}/anew"), &[]).await.status(), 303, "reading anew may also come first");
    v.post(&format!("{plan}/withdraw"), &[("why", "the clock was an hour ahead")]).await;
    let aside = v.page(&plan).await;
    assert!(aside.contains("Set aside: the clock was an hour ahead") && aside.contains("Take it back"), "{aside}");
    assert!(!v.page("/stations/1/export").await.contains("400 readings"), "none of them is meant");

    let anew = v.post(&format!("{plan}/anew"), &[]).await.headers()["location"].to_str().unwrap().to_owned();
    let page = v.page(&anew).await;
    assert!(page.contains("Read anew instead of") && page.contains("the clock was an hour ahead"), "{page}");
    v.send_plan(&anew, &[("clock", "fixed"), ("offset", "+01:00"), ("do", "store")]).await;
    let report = v.page(&anew).await;
    assert!(report.contains("What reading anew changed") && report.contains("28 Feb 2026 23:00"), "{report}");

    let twice = v.post(&format!("{plan}/withdraw"), &[("why", "again")]).await.text().await.unwrap();
    assert!(twice.contains("set aside already"), "{twice}");
    assert_eq!(v.post(&format!("{plan}/restore"), &[]).await.status(), 303);
    assert!(v.page(&plan).await.contains("200 records are stored."), "taken back");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_preview_says_what_the_record_has_already_and_by_how_much_the_clock_is_off() {
    let v = Visitor::owner().await;
    let plan = begin(&v, "node.csv", file(0, 300).as_bytes()).await;
    v.send_plan(&plan, &[("do", "store")]).await;
    let again = begin(&v, "again.csv", file(200, 150).as_bytes()).await;
    let page = v.send_plan(&again, &[("node", "node")]).await.text().await.unwrap();
    assert!(page.contains("100 are in the record already, all with the same value"), "{page}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_recipe_is_kept_found_again_edited_and_its_history_stays() {
    let v = Visitor::owner().await;
    assert!(v.page("/recipes").await.contains("None yet."));
    let plan = begin(&v, "first.csv", file(0, 100).as_bytes()).await;
    v.send_plan(&plan, &[("do", "store"), ("save_as", "θ “ride” node"), ("depth-0", "7")]).await;
    let list = v.page("/recipes").await;
    assert!(list.contains("θ “ride” node") && list.contains("comma; %s; UTC+00:00; one record a line"), "{list}");
    let next = begin(&v, "whatever.csv", file(100, 100).as_bytes()).await;
    let page = v.page(&next).await;
    assert!(page.contains("Read by the recipe “θ “ride” node”") || page.contains("value=\"7\""), "{page}");
    assert!(page.contains("name=\"depth-0\" value=\"7\""), "its depths too: {page}");

    let name = "%CE%B8%20%E2%80%9Cride%E2%80%9D%20node";
    let one = v.page(&format!("/recipes/one?name={name}")).await;
    assert!(one.contains("&#34;version&#34;: 2") || one.contains("\"version\": 2"), "{one}");
    let body = v.page(&format!("/recipes/file?name={name}")).await;
    let slip =
        v.post("/recipes", &[("name", "θ “ride” node"), ("body", "{\"recipe\": 1}")]).await.text().await.unwrap();
    assert!(slip.contains("This is no recipe") && slip.contains("What is saved stays as it was"), "{slip}");
    let edited = body.replace("\"depth_cm\": 7.0", "\"depth_cm\": 9.0");
    assert_eq!(v.post("/recipes", &[("name", "θ “ride” node"), ("body", &edited)]).await.status(), 303);
    let one = v.page(&format!("/recipes/one?name={name}")).await;
    assert!(one.contains("What it was before"), "{one}");
    v.post("/recipes/drop", &[("name", "θ “ride” node")]).await;
    assert!(v.page("/recipes").await.contains("None yet."));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_dialect_without_a_guess_is_solved_by_the_controls_alone() {
    let v = Visitor::owner().await;
    // Seconds since 2000 are no form of a time; day, hour and minute are told by columns of a strange order behind marks.
    let line = |i: i64| format!("@{}~{}~{}~2026~{}~{}.5\n", i / 4 % 24, i % 4 * 15, 1 + i / 96, 3, 880 + i % 7);
    let text: String = (0..300).map(line).collect();
    let plan = begin(&v, "strange.txt", text.replace('~', " ; ").replace('@', "x").as_bytes()).await;
    let page = v.page(&plan).await;
    assert!(page.contains("id=\"time_pattern\""), "every control is there: {page}");
    let changes = [
        ("separator", "semicolon"),
        ("header_lines", "0"),
        ("time_columns", "4 5 3 1 2"),
        ("time_pattern", "%Y %m %d x%H %M"),
        ("clock", "fixed"),
        ("offset", "0"),
        ("layout", "wide"),
    ];
    let shown = v.send_plan(&plan, &changes).await.text().await.unwrap();
    assert!(shown.contains("300 records, 1 – 4 Mar 2026") || shown.contains("300 records, 1 Mar"), "{shown}");
    let stored = [&changes[..], &[("do", "store"), ("quantity-0", "raw_output"), ("unit-0", "mV")]].concat();
    v.send_plan(&plan, &stored).await;
    assert!(v.page(&plan).await.contains("300 records are stored."), "{}", v.page(&plan).await);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_large_file_is_stored_in_the_background_and_its_page_says_how_far_it_is() {
    let v = Visitor::owner().await;
    let plan = begin(&v, "long.csv", file(-70_000, 70_000).as_bytes()).await;
    assert_eq!(v.send_plan(&plan, &[("do", "store")]).await.status(), 303);
    let mut seen_running = false;
    let report = loop {
        let page = v.page(&plan).await;
        if page.contains("records are stored.") {
            break page;
        }
        assert!(page.contains("Being stored") || page.contains("Storing ended"), "{page}");
        let far: serde_json::Value = serde_json::from_str(&v.page(&format!("{plan}/progress")).await).unwrap();
        seen_running |= far["done"] == false && far["all"] == 70_001;
        tokio::task::yield_now().await;
    };
    assert!(seen_running, "it was seen at work");
    assert!(report.contains("70\u{202f}000 records are stored."), "{report}");
    assert_eq!(v.send_plan(&plan, &[("do", "store")]).await.status(), 303, "twice is once");
}

#[tokio::test(flavor = "multi_thread")]
async fn ten_thousand_columns_are_shown_in_a_page_of_bounded_size() {
    let v = Visitor::owner().await;
    let names: Vec<String> = (0..10_000).map(|i| format!("s{i} [mV]")).collect();
    let mut text = format!("time,{}\n", names.join(","));
    for i in 0..20 {
        let values: Vec<String> = (0..10_000).map(|c| (880 + (c + i) % 7).to_string()).collect();
        text += &format!("2026-03-01 {i:02}:00,{}\n", values.join(","));
    }
    let plan = begin(&v, "wide.csv", text.as_bytes()).await;
    let page = v.page(&plan).await;
    assert!(page.contains("20 records") && page.contains("and 9850 more columns"), "{}", &page[..3000]);
    assert!(page.len() < 3_000_000, "{}", page.len());
}

#[tokio::test(flavor = "multi_thread")]
async fn sixteen_who_import_at_once_lose_nothing_and_pages_answer_meanwhile() {
    let v = std::sync::Arc::new(Visitor::owner().await);
    let mut at_work = Vec::new();
    for n in 0..16_i64 {
        let v = std::sync::Arc::clone(&v);
        at_work.push(tokio::spawn(async move {
            // Each shares half of its records with the next.
            let text = file(n * 50, 100);
            let plan = begin(&v, &format!("part {n}.csv"), text.as_bytes()).await;
            let stored = v.send_plan(&plan, &[("do", "store"), ("node", "node 1")]).await;
            assert_eq!(stored.status(), 303, "{n}");
            v.page(&plan).await
        }));
    }
    let mut new = 0;
    for done in at_work {
        let page = done.await.unwrap();
        let told = page.split("<p class=\"answer\">").nth(1).unwrap().split(' ').next().unwrap();
        new += told.replace('\u{202f}', "").parse::<usize>().unwrap_or(0);
    }
    assert_eq!(new, 850, "each record is new in exactly one of them");
    let store = ebrel_store::Store::open(&v.data().join("ebrel.db")).await.unwrap();
    let streams = store.streams(1).await.unwrap();
    assert_eq!(streams.len(), 2);
    assert_eq!(store.series(streams[0].id).await.unwrap().len(), 850);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_slip_on_the_form_stands_at_its_field_and_nothing_that_was_typed_is_lost() {
    let v = Visitor::owner().await;
    let plan = begin(&v, "node.csv", file(0, 100).as_bytes()).await;
    let slips = [
        ("header_lines", "a few", "Give a whole number from 0 to 200"),
        ("time_columns", "1,0", "Give 1 to 6 numbers, counted from 1"),
        ("time_pattern", "%H:%M", "it tells no day"),
        ("offset", "noon", "“noon” is no offset from UTC"),
        ("node_column", "second", "Give one number, counted from 1"),
        ("factor-0", "0", "A factor of 0 leaves nothing"),
        ("plus-1", "much", "“much” is no number"),
        ("depth-0", "9999", "depth"),
    ];
    let typed: Vec<(&str, &str)> = slips
        .iter()
        .map(|(name, text, _)| (*name, *text))
        .chain([("node", "θ “north” <7>"), ("do", "store")])
        .collect();
    let page = v.send_plan(&plan, &typed).await.text().await.unwrap();
    for (name, text, sentence) in slips {
        assert!(page.contains(sentence), "{name}: {sentence}\n{page}");
        assert!(page.contains(&format!("value=\"{text}\"")), "{name} keeps {text}");
    }
    assert!(page.contains("θ “north” &#60;7&#62;") || page.contains("θ “north” &lt;7&gt;"), "{page}");
    assert!(v.page("/stations/1").await.contains("No readings yet"), "and nothing is stored");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_the_guess_said_of_itself_stands_until_somebody_knows_better() {
    let v = Visitor::owner().await;
    let plan = begin(&v, "node.csv", "time,m05 [mV]\n03/04/2026 06:00,880\n03/04/2026 06:15,881\n".as_bytes()).await;
    let page = v.page(&plan).await;
    assert!(page.contains("Nothing in the file decides: choose"), "{page}");
    let same = v.send_plan(&plan, &[("do", "preview")]).await.text().await.unwrap();
    assert!(same.contains("Nothing in the file decides"), "nobody chose yet");
    let chosen = v.send_plan(&plan, &[("time_pattern", "%m/%d/%Y %H:%M")]).await.text().await.unwrap();
    assert!(!chosen.contains("Nothing in the file decides") && chosen.contains("4 Mar 2026 06:00"), "{chosen}");
    assert!(!v.page(&plan).await.contains("Nothing in the file decides"));
}
