//! Rows as people and programs write them.

use std::io::Cursor;

use proptest::prelude::*;
use tidy_warden_core::settings::{Settings, new_text};
use tidy_warden_core::text::Source;
use tidy_warden_ward::list::{Extra, ListReader, Row};

use tidy_warden_rig::ward::NOW;

fn settings() -> Settings {
    let text = new_text("Ropes", "localhost", None, None) + "[kinds.windvane]\n";
    Settings::parse(&Source::new("ward.toml", &text)).unwrap()
}

fn rows(text: &str) -> Result<Vec<Row>, String> {
    let settings = settings();
    let mut reader = ListReader::open(Cursor::new(text.as_bytes()), "list", Extra::None, &settings, NOW)
        .map_err(|problem| problem.text_for_people())?;
    let mut rows = Vec::new();
    while let Some(row) = reader.next_row().map_err(|error| error.to_string())? {
        rows.push(row);
    }
    Ok(rows)
}

fn quoted(text: &str) -> String {
    format!("\"{}\"", text.replace('"', "\"\""))
}

proptest! {
    #[test]
    fn whatever_stands_in_a_list_is_taken_or_refused_with_its_line(text in "(id,kind(,label\\.[a-z]{1,3})?\n)?[ -~\n\"{}:,é]{0,200}") {
        if let Ok(rows) = rows(&text) {
            let lines = u64::try_from(text.lines().count()).unwrap();
            for row in &rows {
                prop_assert!(row.line >= 1 && row.line <= lines.max(1), "{} of {lines}", row.line);
                if let Err(why) = &row.entry {
                    prop_assert!(!why.is_empty() && !why.contains('\n'), "{why:?}");
                }
            }
        }
    }

    /// Blanks around a cell of CSV are not part of it, and an empty cell says nothing; a text in JSON is exact.
    #[test]
    fn both_ways_of_writing_a_row_say_the_same(id in "[a-z][a-z0-9-]{0,20}[a-z0-9]", value in " ?[a-z0-9.-]{0,8} ?|[ -~]{1,20}", kind in "windvane|pony") {
        let csv = format!("id,kind,label.site\n{id},{kind},{}\n", quoted(&value));
        let labels = match value.trim() {
            "" => serde_json::json!({}),
            value => serde_json::json!({ "site": value }),
        };
        let object = serde_json::json!({ "id": id, "kind": kind, "labels": labels });
        let lines = format!("{object}\n");
        let (csv, lines) = (rows(&csv).unwrap(), rows(&lines).unwrap());
        prop_assert_eq!((csv.len(), lines.len()), (1, 1));
        match (&csv[0].entry, &lines[0].entry) {
            (Ok(one), Ok(other)) => prop_assert_eq!(one, other),
            (Err(one), Err(other)) => prop_assert_eq!(one, other),
            (one, other) => prop_assert!(false, "{one:?} and {other:?}"),
        }
    }

    #[test]
    fn a_blank_around_a_text_in_json_is_refused(value in "[a-z0-9.-]{0,8}", before in any::<bool>()) {
        let text = if before { format!(" {value}") } else { format!("{value} ") };
        let object = serde_json::json!({ "id": "wv-1", "kind": "windvane", "labels": { "site": text } });
        let rows = rows(&format!("{object}\n")).unwrap();
        prop_assert!(rows[0].entry.as_ref().unwrap_err().contains("holds ' '"), "{:?}", rows[0].entry);
    }
}

#[test]
fn a_row_without_end_is_refused_and_the_next_is_read() {
    let long = "a".repeat(1 << 20);
    let text = format!("{{\"id\":\"{long}\"}}\n{{\"id\":\"wv-2\",\"kind\":\"windvane\"}}\n");
    let rows = rows(&text).unwrap();
    assert_eq!(rows.iter().map(|row| row.line).collect::<Vec<_>>(), [1, 2]);
    assert_eq!(rows[0].entry.as_ref().unwrap_err(), "it has more than 262144 bytes");
    assert_eq!(rows[1].entry.as_ref().unwrap().device.id.as_str(), "wv-2");
}

#[test]
fn a_row_that_says_a_thing_twice_is_refused() {
    for text in [
        r#"{"id":"wv-1","kind":"windvane","label.site":"a","labels":{"site":"b"}}"#,
        r#"{"id":"wv-1","kind":"windvane","labels":{"site":"b"},"label.site":"b"}"#,
    ] {
        let rows = rows(&format!("{text}\n")).unwrap();
        assert_eq!(rows[0].entry.as_ref().unwrap_err(), "`label.site` stands twice");
    }
}

#[test]
fn a_row_can_be_found_again_by_its_place() {
    let settings = settings();
    let text = "id,kind,label.site\nwv-1,windvane,\"a\nb\"\nwv-2,windvane,c\nwv-3,windvane,d\n";
    for text in [text.to_owned(), "{\"id\":\"wv-1\"}\n\n{\"id\":\"wv-2\"}\n{\"id\":\"wv-3\"}\n".to_owned()] {
        let open =
            || ListReader::open(Cursor::new(text.as_bytes().to_vec()), "list", Extra::None, &settings, NOW).unwrap();
        let mut reader = open();
        let mut places = Vec::new();
        let mut seen = Vec::new();
        loop {
            let at = reader.at();
            let Some(row) = reader.next_row().unwrap() else { break };
            places.push(at);
            seen.push(format!("{row:?}"));
        }
        assert_eq!(places.len(), 3);
        for (place, want) in places.iter().zip(&seen) {
            let mut again = open();
            again.seek(*place).unwrap();
            assert_eq!(format!("{:?}", again.next_row().unwrap().unwrap()), *want);
        }
    }
}
