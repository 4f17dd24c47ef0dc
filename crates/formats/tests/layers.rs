//! Each layer of a logger file by cases that the field delivers, read by a recipe that is given and not guessed.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on shall panic")]

use ebrel_core::units::UnixSeconds;
use ebrel_formats::logger::{
    Cells, Clock, Header, Layout, Named, Read, Recipe, Separator, Tags, Tally, Text, guess, read, survey,
};
use ebrel_formats::rfc3339;

/// A recipe of commas, the time in the first column to the minute.
fn recipe() -> Recipe {
    let mut recipe = Recipe::plain(Separator::Comma, 0);
    recipe.time.forms = vec!["%Y-%m-%d %H:%M".into()];
    recipe
}

fn by(recipe: &Recipe, text: &str) -> Read {
    read(&Text::of_bytes(text.as_bytes()).unwrap(), recipe).unwrap()
}

/// Name, values and missing cells of each column.
fn columns(read: &Read) -> Vec<(&str, usize, usize)> {
    read.survey.columns.iter().map(|c| (c.name.as_str(), c.valid, c.missing)).collect()
}

/// Line and reason of each loss.
fn told(read: &Read) -> Vec<(usize, String)> {
    read.problems.iter().map(|p| (p.line, p.fault.to_string())).collect()
}

fn values(read: &Read, column: usize) -> Vec<f64> {
    read.readings.iter().filter(|r| r.column == column).map(|r| r.value).collect()
}

#[test]
fn a_header_is_known_by_its_look_or_counted_where_the_recipe_says_so() {
    let text = "box 7\n12,34\ntime,wc5,t5\n,m3/m3,degC\n2026-03-01 00:00,0.31,4.5\n";
    let found = by(&recipe(), text);
    assert_eq!((found.survey.tally.preamble, found.survey.tally.header, found.survey.tally.records), (1, 2, 1));
    assert_eq!(columns(&found), [("wc5", 1, 0), ("t5", 1, 0)]);
    assert_eq!(told(&found)[0].0, 2, "two figures where a time belongs are told, and not taken for a header");

    let header = Header { lines: Some(4), names: Some(2), units: Some(3), ..Header::default() };
    let counted = by(&Recipe { header, ..recipe() }, text);
    assert_eq!((counted.survey.tally.header, counted.problems.len()), (4, 0));
    assert_eq!(counted.survey.columns[0].unit, "m3/m3");
}

#[test]
fn after_a_restart_columns_are_found_by_name_also_the_time() {
    let text = "time,wc5,t5\n2026-03-01 00:00,0.31,4.5\nbattery,time,t5,wc5,wc60\n3.6,2026-03-01 00:15,4.6,0.32,0.40\n";
    let found = by(&recipe(), text);
    assert_eq!(columns(&found), [("wc5", 2, 0), ("t5", 2, 0), ("battery", 1, 0), ("wc60", 1, 0)]);
    assert_eq!((values(&found, 0), values(&found, 1)), (vec![0.31, 0.32], vec![4.5, 4.6]));
    assert_eq!(found.survey.tables.len(), 1, "it is still the same table");
}

#[test]
fn the_same_name_in_another_unit_is_another_column() {
    let text = "time,t5 [degC]\n2026-03-01 00:00,4.5\ntime,t5 [degF]\n2026-03-01 00:15,40.3\n";
    assert_eq!(columns(&by(&recipe(), text)), [("t5 [degC]", 1, 0), ("t5 [degF]", 1, 0)]);
}

#[test]
fn noise_remarks_and_torn_records_between_good_ones_cost_themselves_alone() {
    let text = "time,wc5,t5\n2026-03-01 00:00,0.31,4.5\n~~~\n2026-03-01 00:15,0.3\n2026-03-01 00:30,0.31,4.5,9\n\
                cow at the fence\n2026-03-01 00:45,0.31,4.5,,\n2026-13-01 00:45,0.31,4.5\n2026-03-01 01:00,0.31,4.5\n";
    let found = by(&recipe(), text);
    let reasons: Vec<_> =
        told(&found).into_iter().map(|(line, why)| (line, why.split(':').next().unwrap().to_owned())).collect();
    let wanted = [
        (3, "the line stands between records and is none"),
        (4, "2 fields where 3 are due"),
        (5, "4 fields where 3 are due"),
        (6, "the line stands between records and is none"),
        (8, "the time is not of the form %Y-%m-%d %H"),
    ];
    let mut sorted = reasons;
    sorted.sort();
    assert_eq!(sorted, wanted.map(|(line, why)| (line, why.to_owned())));
    assert_eq!((found.survey.tally.records, found.survey.tally.sum()), (3, 9), "empty cells too many are none");
}

#[test]
fn a_file_of_nothing_but_lines_before_a_header_is_counted_to_the_last() {
    for n in [0, 1, 299, 300, 301, 5000] {
        let text = format!("x\n{}", "about the station\n".repeat(n));
        let found = by(&recipe(), &text);
        let tally = found.survey.tally;
        assert_eq!((tally.sum(), tally.records, tally.unreadable), (n + 1, 0, found.problems.len()), "{n}: {tally:?}");
        assert!(found.survey.groups.len() <= 2, "and told in a line or two");
    }
}

#[test]
fn marks_for_no_reading_hold_in_all_columns_or_in_one() {
    let text =
        "time,counts,t5\n2026-03-01 00:00,6999,6999\n2026-03-01 00:15,7000,NaN\n2026-03-01 00:30,no data,-9999.0\n";
    let mut recipe = recipe();
    recipe.missing = vec!["nan".into(), "No Data".into(), "-9999".into()];
    recipe.missing_in = [("t5".to_owned(), vec!["6999".to_owned()])].into();
    let found = by(&recipe, text);
    assert_eq!(
        columns(&found),
        [("counts", 2, 1), ("t5", 0, 3)],
        "numbers are compared as numbers, words without regard to case"
    );
    assert_eq!(values(&found, 0), [6999.0, 7000.0]);
}

#[test]
fn signs_behind_numbers_are_counted_and_others_cost_the_cell() {
    let text = "time,t5\n2026-03-01 00:00,12.3*\n2026-03-01 00:15,12.4 R\n2026-03-01 00:30,12.5?\n2026-03-01 00:45,*\n";
    let mut recipe = recipe();
    (recipe.notes, recipe.missing) = (vec!["*".into(), "R".into()], vec!["*".into()]);
    let found = by(&recipe, text);
    assert_eq!(values(&found, 0), [12.3, 12.4]);
    let c = &found.survey.columns[0];
    assert_eq!((c.valid, c.noted, c.missing, c.words), (2, 2, 1, 1));
    assert_eq!(told(&found), [(4, "t5: “12.5?” is no number".to_owned())]);
}

#[test]
fn times_after_the_latest_are_set_aside_unless_most_lie_there() {
    let text = |future: usize| {
        let line = |i: usize| format!("20{}-03-01 {i:02}:00,1\n", if i < future { 90 } else { 20 });
        Text::of_bytes(format!("time,a\n{}", (0..10).map(line).collect::<String>()).into_bytes()).unwrap()
    };
    let now = UnixSeconds(1_790_000_000);
    let few = survey(&text(2), &recipe(), now).unwrap();
    assert_eq!((few.tally.records, few.tally.unreadable, few.later), (8, 2, 2));
    assert_eq!(few.groups[0].whereabouts(), "2 lines, lines 2 to 3");
    let most = survey(&text(8), &recipe(), now).unwrap();
    assert_eq!(
        (most.tally.records, most.tally.unreadable),
        (10, 0),
        "it is the clock, or the recipe: the extent shows it"
    );
    assert!(rfc3339(most.extent.unwrap().1).starts_with("2090"));
}

#[test]
fn long_files_make_a_column_of_each_channel_unit_and_logger() {
    let text = "time,node,what,depth_m,value,unit,q\n\
                2026-03-01 00:00,A,wc,0.1,0.31,m3/m3,ok\n2026-03-01 00:00,B,wc,0.1,0.30,m3/m3,\n\
                2026-03-01 00:00,A,wc,0.1,31,%,ok\n2026-03-01 00:00,A,wc,0.25,0.28,m3/m3,\n2026-03-01 00:15,A,wc,0.1,,m3/m3,E\n\
                2026-03-01 00:30,A,wc,0.1,wet,m3/m3,\n";
    let layout = Layout::Long { keys: vec![2, 3], value: 4, unit: Some(5), note: Some(6) };
    let found = by(&Recipe { layout, node: Some(1), ..recipe() }, text);
    let seen: Vec<_> = found
        .survey
        .columns
        .iter()
        .map(|c| (c.node.as_str(), c.name.as_str(), c.unit.as_str(), c.depth_cm, c.valid, c.missing, c.noted))
        .collect();
    assert_eq!(
        seen,
        [
            ("A", "wc 10 cm", "m3/m3", Some(10.0), 1, 1, 1),
            ("B", "wc 10 cm", "m3/m3", Some(10.0), 1, 0, 0),
            ("A", "wc 10 cm", "%", Some(10.0), 1, 0, 1),
            ("A", "wc 25 cm", "m3/m3", Some(25.0), 1, 0, 0),
        ]
    );
    assert_eq!((found.survey.tally.records, found.survey.tally.unreadable, found.survey.records), (5, 1, 2));
    let words = text.replace("0.30", "door open");
    let layout = Layout::Long { keys: vec![2, 3], value: 4, unit: Some(5), note: Some(6) };
    let found = by(&Recipe { layout, node: Some(1), ..recipe() }, &words);
    assert_eq!(
        (told(&found).len(), found.survey.tally.unreadable),
        (2, 2),
        "a channel of words alone is lost line by line, and told"
    );
    assert_eq!(found.survey.groups.len(), 2);
}

#[test]
fn the_first_cell_tells_the_kind_of_a_line() {
    let text = "Z,+0100\nH,when,wc5\nD,2026-03-01 00:00,0.31\nE,2026-03-01 00:00,door open\nD,2026-03-01 00:15,0.3\nX,what is this\n\
                H,when,wc5\nD,2026-03-01 00:30\nD,yesterday,0.3\n";
    let tags =
        Tags { column: 0, records: vec!["D".into()], header: vec!["H".into()], other: vec!["Z".into(), "E".into()] };
    let mut recipe = Recipe { tags: Some(tags), ..recipe() };
    recipe.time.columns = vec![1];
    let found = by(&recipe, text);
    let wanted =
        Tally { preamble: 1, header: 1, records: 2, repeated: 1, foreign: 1, unreadable: 3, ..Tally::default() };
    assert_eq!(found.survey.tally, wanted);
    assert_eq!(columns(&found), [("wc5", 2, 0)]);
    let why: Vec<String> = told(&found).into_iter().map(|(_, why)| why).collect();
    assert!(
        why[0].contains("no mark that this file uses")
            && why[1].contains("cut off")
            && why[2].contains("not of the form"),
        "{why:?}"
    );
}

#[test]
fn two_marks_are_two_tables_each_with_its_own_columns() {
    let text = "101,2026-03-01 00:00,0.31,4.5\n202,2026-03-01 00:00,7\n101,2026-03-01 00:15,0.32,4.6\n101,2026-03-01 00:30,0.33\n";
    let tags = Tags { column: 0, records: vec!["101".into(), "202".into()], ..Tags::default() };
    let mut recipe = Recipe { tags: Some(tags), ..recipe() };
    recipe.time.columns = vec![1];
    let found = by(&recipe, text);
    let seen: Vec<_> = found.survey.columns.iter().map(|c| (c.table.as_str(), c.name.as_str(), c.valid)).collect();
    assert_eq!(seen, [("101", "column 3", 2), ("101", "column 4", 2), ("202", "column 3", 1)]);
    assert_eq!(found.survey.records, 3, "a time of each table is one record");
    assert_eq!(told(&found)[0].1, "3 fields where 4 are due: the line looks cut off");
}

#[test]
fn keys_may_come_go_and_change_their_order() {
    let text = "started\nt=2026-03-01 00:00;a=1;b=2\nb=4;t=2026-03-01 00:15;a=3\nt=2026-03-01 00:30;c=9\nt=2026-03-01 00:45;a=;b=x\nnoise\n";
    let cells = Cells::Tagged { between: Separator::Semicolon, mark: '=' };
    let named = |name: &str| Named { name: name.into(), unit: String::new() };
    let header = Header { columns: vec![named("t"), named("a"), named("b")], ..Header::default() };
    let found = by(&Recipe { cells, header, ..recipe() }, text);
    assert_eq!(
        columns(&found),
        [("a", 2, 1), ("b", 2, 0), ("c", 1, 0)],
        "a key that is not there is absent, not missing"
    );
    assert_eq!((values(&found, 0), values(&found, 1)), (vec![1.0, 3.0], vec![2.0, 4.0]));
    let tally = found.survey.tally;
    assert_eq!((tally.preamble, tally.records, tally.unreadable), (1, 4, 1));
}

#[test]
fn columns_by_place_hold_empty_cells_and_letters_of_several_bytes() {
    let text = "2026-03-01 00:00θ 12.5-104.5\n2026-03-01 00:15      -104.6\n2026-03-01 00:30ψ 12.7\n";
    let found = by(&Recipe { cells: Cells::Fixed(vec![0, 16, 17, 22]), ..recipe() }, text);
    let c = &found.survey.columns;
    assert_eq!((c[0].words, c[0].missing), (1, 1), "the last line is cut");
    assert_eq!((values(&found, 1), values(&found, 2)), (vec![12.5], vec![-104.5, -104.6]));
    assert_eq!(told(&found).last().unwrap().1, "3 fields where 4 are due: the line looks cut off");
}

#[test]
fn a_record_may_hold_line_breaks_within_quotes_and_a_quote_left_open_costs_its_line() {
    let text = "time,a,by\n2026-03-01 00:00,1,\"two\nlines\"\n2026-03-01 00:15,2,\"open\n2026-03-01 00:30,3,x\n2026-03-01 00:45,4,y\n";
    let mut recipe = recipe();
    (recipe.quoted_breaks, recipe.header.widths) = (true, vec![3]);
    let found = by(&recipe, text);
    assert_eq!(values(&found, 0), [1.0, 3.0, 4.0]);
    assert_eq!((found.survey.tally.sum(), found.survey.tally.unreadable), (6, 1), "{:?}", found.survey.tally);
    assert_eq!(told(&found).first().unwrap().0, 4);
}

#[test]
fn local_time_goes_forward_and_back_and_a_record_in_the_missing_hour_is_told() {
    let hours = |from: &str, n: i64| -> String {
        let start: jiff::civil::DateTime = from.parse().unwrap();
        (0..n)
            .map(|i| format!("{},{i}\n", (start + jiff::SignedDuration::from_hours(i)).strftime("%Y-%m-%d %H:%M")))
            .collect()
    };
    let mut recipe = recipe();
    recipe.time.clock = Clock::Zone("Europe/Paris".into());
    let spring = by(&recipe, &format!("time,a\n{}", hours("2026-03-29T00:00", 5)));
    assert_eq!(told(&spring)[0].0, 4, "02:00 never stood on that clock");
    assert!(told(&spring)[0].1.contains("is the logger's time really with summer time?"));
    let autumn = by(
        &recipe,
        "time,a\n2026-10-25 02:00,1\n2026-10-25 02:30,2\n2026-10-25 02:00,3\n2026-10-25 02:30,4\n2026-10-25 03:00,5\n",
    );
    let times: Vec<i64> = autumn.readings.iter().map(|r| r.time.0).collect();
    assert!(times.windows(2).all(|w| w[1] - w[0] == 1800), "{times:?}");
}

#[test]
fn ten_thousand_columns_cells_of_a_megabyte_and_open_quotes_everywhere_are_told_in_bounded_time() {
    let names: Vec<String> = (0..10_000).map(|i| format!("m{i}")).collect();
    let cells: Vec<String> = (0..10_000).map(|i| i.to_string()).collect();
    let mut wide = format!("time,{}\n", names.join(","));
    (0..4).for_each(|i| wide += &format!("2026-03-01 0{i}:00,{}\n", cells.join(",")));
    let text = Text::of_bytes(wide.into_bytes()).unwrap();
    let found = read(&text, &guess(&text, 0).unwrap().recipe).unwrap();
    assert_eq!((found.survey.columns.len(), found.readings.len(), found.problems.len()), (10_000, 40_000, 0));

    let big = "x".repeat(2 << 20);
    let found = by(&recipe(), &format!("time,a\n2026-03-01 00:00,1\n2026-03-01 00:15,{big}\n2026-03-01 00:30,2\n"));
    assert_eq!((values(&found, 0), told(&found)[0].0), (vec![1.0, 2.0], 3));
    assert!(found.problems[0].text.len() < 200, "of a line without end only the beginning is kept");

    let torn: String = (0..3000).map(|i| format!("2026-03-01 00:{:02},\"{i}\n", i % 60)).collect();
    let mut breaks = recipe();
    breaks.quoted_breaks = true;
    let found = by(&breaks, &format!("time,a\n{torn}"));
    assert_eq!(found.survey.tally.sum(), 3001);
    assert!(found.survey.groups.len() < 5, "{:?}", found.survey.groups);
}

#[test]
fn a_column_of_remarks_is_said_once_and_odd_cells_of_a_column_of_readings_each() {
    let line = |i: usize| {
        format!(
            "2026-03-01 {:02}:{:02},{},cow {i}\n",
            i / 4,
            i % 4 * 15,
            if i % 9 == 4 { "ERR".into() } else { i.to_string() }
        )
    };
    let found = by(&recipe(), &format!("time,a,remark\n{}", (0..90).map(line).collect::<String>()));
    assert_eq!(
        found.survey.groups.iter().map(|g| (g.reason.as_str(), g.count)).collect::<Vec<_>>(),
        [("a: “ERR” is no number", 10)]
    );
    assert!(found.survey.columns[1].is_words());
    assert_eq!(found.survey.columns[1].words, 90);
    // Where odd cells outnumber the rest they are told all the same.
    let mostly: String =
        (0..20).map(|i| format!("2026-03-01 {i:02}:00,{}\n", if i == 7 { "1.5" } else { "OVER" })).collect();
    let found = by(&recipe(), &format!("time,a\n{mostly}"));
    assert_eq!((found.survey.groups[0].count, found.survey.groups[0].reason.as_str()), (19, "a: “OVER” is no number"));
}
