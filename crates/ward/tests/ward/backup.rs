//! Backups without a command line: what stands in one, and what is refused that only looks like one.

use std::io::Write;
use std::path::Path;

use data_encoding::{BASE64, HEXLOWER};
use serde_json::{Value, json};
use tidy_warden_core::key::{NewKey, Signer, SoftwareKey};
use tidy_warden_core::seal::{SealedWriter, seal_to};
use tidy_warden_store::copy::{Count, GROWN, TABLES, Total, each_row};
use tidy_warden_store::{OperatorStore, SqliteStore};
use tidy_warden_ward::backup::{self, Lock};
use tidy_warden_ward::place::StorePlace;
use tidy_warden_ward::problem::{Kind, Problem};

use tidy_warden_rig::ward::Bench;

/// The key that backups are sealed to.
fn key() -> SoftwareKey {
    SoftwareKey::generate(NewKey::P256).unwrap()
}

fn made(bench: &Bench, name: &str, key: &SoftwareKey, whole: bool) -> backup::Done {
    backup::write(&bench.ward, &bench.path(name), &Lock::Key(key.public_key().clone()), whole).unwrap()
}

/// Puts a backup back into a folder, whatever was seen of it.
fn put_back(bench: &Bench, name: &str, key: &SoftwareKey, into: &Path) -> Result<backup::Done, Problem> {
    let opened = backup::open(&bench.path(name))?;
    let target = backup::target(&opened, into, StorePlace::File(into.join("ward.db")), &None)?;
    backup::restore(opened, key, &target, ("ada", "a test"))
}

/// A file in the form of a backup, with these lines in its stream.
fn forged(bench: &Bench, name: &str, key: &SoftwareKey, header: &Value, lines: &[Value]) {
    let (ephemeral, content_key) = seal_to(key.public_key(), b"tidy-warden backup 1").unwrap();
    let mut header = header.clone();
    header["to"] = BASE64.encode(key.public_key().spki()).into();
    header["ephemeral"] = BASE64.encode(&ephemeral).into();
    let above = format!("tidy-warden backup 1\n{header}\n");
    let mut file = std::fs::File::create(bench.path(name)).unwrap();
    file.write_all(above.as_bytes()).unwrap();
    let sealed = SealedWriter::new(file, &content_key, above.as_bytes()).unwrap();
    let mut stream = zstd::stream::Encoder::new(sealed, 1).unwrap();
    lines.iter().for_each(|line| writeln!(stream, "{line}").unwrap());
    stream.finish().unwrap().finish().unwrap();
}

/// What anybody may read of a backup, and the lines of its stream.
fn taken_apart(bench: &Bench, name: &str, key: &SoftwareKey) -> (Value, Vec<Value>) {
    use tidy_warden_core::seal::{SealedReader, unseal};
    let octets = std::fs::read(bench.path(name)).unwrap();
    let end = octets.iter().enumerate().filter(|(_, octet)| **octet == b'\n').nth(1).unwrap().0 + 1;
    let header: Value = serde_json::from_slice(&octets[21..end]).unwrap();
    let ephemeral = BASE64.decode(header["ephemeral"].as_str().unwrap().as_bytes()).unwrap();
    let content_key = unseal(key, key.public_key(), &ephemeral, b"tidy-warden backup 1").unwrap();
    let sealed = SealedReader::new(&octets[end..], &content_key, &octets[..end]).unwrap();
    let text = std::io::read_to_string(zstd::stream::Decoder::new(sealed).unwrap()).unwrap();
    (header, text.lines().map(|line| serde_json::from_str(line).unwrap()).collect())
}

fn count(into: &Path) -> usize {
    let store = OperatorStore::new(Box::new(SqliteStore::open(&into.join("ward.db")).unwrap()));
    let mut count = 0;
    store.each_device(&mut |_| count += 1).unwrap();
    count
}

#[test]
fn a_backup_has_the_rows_and_files_of_the_ward_and_comes_back_whole() {
    let (mut bench, key) = (Bench::new(), key());
    bench.list((0..25).map(|at| format!("wv-{at}")));
    std::fs::write(bench.ward.dir.join("keys/.hidden.key"), "x").unwrap();
    std::fs::write(bench.ward.dir.join("keys/notes.txt"), "x").unwrap();
    std::fs::write(bench.ward.dir.join("policies/vanes.policy"), "policy p { for kind = windvane }").unwrap();
    std::fs::write(bench.ward.dir.join("broker.pw"), "between us").unwrap();
    let done = made(&bench, "whole", &key, true);
    assert_eq!((done.files, done.header.entries), (4, 2));
    let (header, lines) = taken_apart(&bench, "whole", &key);
    assert_eq!(
        (&header["whole"], &header["entries"], &header["ward"]),
        (&true.into(), &2.into(), &"urn:uuid:1".into())
    );
    let files: Vec<&str> =
        lines.iter().filter(|line| line[0] == "file").map(|line| line[1].as_str().unwrap()).collect();
    assert_eq!(
        files,
        ["ward.toml", "policies/vanes.policy", "keys/devices.key", "keys/root.key"],
        "no secret that is not locked"
    );
    assert_eq!(lines.iter().filter(|line| line[0] == "row" && line[1] == "devices").count(), 25);
    assert_eq!(lines.last().unwrap()[0], "end");

    let into = bench.path("fresh");
    assert_eq!(put_back(&bench, "whole", &key, &into).unwrap().files, 4);
    assert_eq!(count(&into), 25);
    for name in files {
        assert_eq!(std::fs::read(into.join(name)).unwrap(), std::fs::read(bench.ward.dir.join(name)).unwrap());
    }
    // Over what went on since it comes back in doubt, and what was there stays beside it.
    let doubt =
        || OperatorStore::new(Box::new(SqliteStore::open(&into.join("ward.db")).unwrap())).head().unwrap().doubt;
    assert_eq!(doubt(), None);
    assert_eq!(put_back(&bench, "whole", &key, &into).unwrap().files, 0);
    assert!(doubt().unwrap().contains("ends with entry 3") && into.join("ward.db.before").exists());
    // Without the ward's files there is nowhere to put it.
    made(&bench, "part", &key, false);
    let nowhere = put_back(&bench, "part", &key, &bench.path("empty")).unwrap_err();
    assert_eq!(nowhere.kind(), Kind::Refused);
    assert!(!bench.path("empty").exists());
    assert_eq!(backup::settings_text(backup::open(&bench.path("part")).unwrap(), &key).unwrap(), None);
    let text = backup::settings_text(backup::open(&bench.path("whole")).unwrap(), &key).unwrap();
    assert_eq!(text.unwrap(), std::fs::read_to_string(bench.ward.dir.join("ward.toml")).unwrap());
    // What is there is not overwritten, and nothing of a try is left.
    let again =
        backup::write(&bench.ward, &bench.path("part"), &Lock::Key(key.public_key().clone()), false).unwrap_err();
    assert!(again.text_for_people().contains("exists already"));
    let left: Vec<_> = std::fs::read_dir(bench.dir.path()).unwrap().map(|entry| entry.unwrap().file_name()).collect();
    assert!(left.iter().all(|name| !name.to_string_lossy().contains("partial")), "{left:?}");
}

/// A backup as a version of before `since` made it: without the tables that came since, and with the shorter rows of one that grew.
fn of_before(bench: &Bench, name: &str, key: &SoftwareKey, since: usize, head: usize) {
    let (header, mut lines) = taken_apart(bench, name, key);
    let absent: Vec<&str> = GROWN[..since].concat();
    lines.retain(|line| !absent.iter().any(|table| line[0] == "row" && line[1] == *table));
    for line in &mut lines {
        if line[0] == "row" && line[1] == "head" {
            line.as_array_mut().unwrap().truncate(2 + head);
        }
        // Until when a list is good was not written down, nor when a device was asked to renew.
        if line[0] == "row" && line[1] == "devices" && since > 0 {
            line.as_array_mut().unwrap().truncate(2 + 15);
        }
        if line[0] == "row" && line[1] == "authorities" && since > 0 {
            line.as_array_mut().unwrap().truncate(2 + 16);
        }
    }
    let store = bench.ward.place.open_whole().unwrap();
    let mut total = Total::default();
    for table in TABLES.iter().filter(|table| !absent.contains(&table.name)) {
        let mut count = Count::default();
        each_row(&*store, table, &mut |row| {
            let columns = match table.name {
                "head" => head,
                "authorities" if since > 0 => 16,
                "devices" if since > 0 => 15,
                _ => row.len(),
            };
            count.add(&row[..columns].to_vec());
            Ok(())
        })
        .unwrap();
        total.add(&count.finish());
    }
    let said = total.finish();
    *lines.last_mut().unwrap() = json!(["end", said.rows, HEXLOWER.encode(&said.digest)]);
    forged(bench, "older", key, &header, &lines);
}

#[test]
fn what_an_earlier_version_made_comes_back_too() {
    let (mut bench, key) = (Bench::new(), key());
    bench.list((0..5).map(|at| format!("wv-{at}")));
    made(&bench, "new", &key, true);
    for (since, head) in [(0, 11), (1, 11), (2, 10), (3, 9), (4, 9)] {
        of_before(&bench, "new", &key, since, head);
        let into = bench.path(&format!("into-{since}"));
        put_back(&bench, "older", &key, &into).unwrap();
        assert_eq!(count(&into), 5);
        let store = OperatorStore::new(Box::new(SqliteStore::open(&into.join("ward.db")).unwrap()));
        let ends = store.head().unwrap();
        assert_eq!((ends.servers, ends.tokens, ends.given_up, ends.doubt), (0, 0, None, None), "each in its place");
        assert_eq!(
            store.signers().unwrap().len(),
            1,
            "whoever signed tokens before there were several signs them still"
        );
        drop(std::fs::remove_file(bench.path("older")));
    }
    // What never was one says so.
    of_before(&bench, "new", &key, 3, 8);
    let (header, mut lines) = taken_apart(&bench, "older", &key);
    let at = lines.iter().position(|line| line[0] == "row" && line[1] == "devices").unwrap();
    lines.remove(at);
    forged(&bench, "older", &key, &header, &lines);
    let refused = put_back(&bench, "older", &key, &bench.path("nowhere")).unwrap_err();
    assert!(refused.text_for_people().contains("not what it says"), "{}", refused.text_for_people());
}

#[test]
fn what_only_looks_like_a_backup_writes_nothing_outside_and_becomes_no_ward() {
    let (mut bench, key) = (Bench::new(), key());
    bench.list((0..5).map(|at| format!("wv-{at}")));
    made(&bench, "good", &key, true);
    let (header, lines) = taken_apart(&bench, "good", &key);
    let at = |word: &str| lines.iter().position(|line| line[0] == word).unwrap();
    let with = |place: usize, line: Value| {
        let mut lines = lines.clone();
        lines.insert(place, line);
        lines
    };
    let without = |place: usize| {
        let mut lines = lines.clone();
        lines.remove(place);
        lines
    };
    let octets = BASE64.encode(b"evil");
    let row = at("row");
    let device = lines.iter().position(|line| line[1] == "devices").unwrap();
    let mut other_cell = lines.clone();
    other_cell[device][3] = json!("wv-9");
    let mut cases: Vec<(&str, Vec<Value>)> = vec![
        ("no end", without(lines.len() - 1)),
        ("a row less", without(device)),
        ("another cell", other_cell),
        ("a row of no table", with(row, json!(["row", "nothing", 1]))),
        ("a row of too many cells", with(row, json!(["row", "seen", 1, 2, 3]))),
        ("a row of none", with(row, json!(["row", "seen"]))),
        ("a word that means nothing", with(row, json!(["drop", "devices"]))),
        ("no list", with(row, json!({ "row": 1 }))),
        ("a fraction", with(row, json!(["row", "seen", 1.5, 2]))),
        ("an end without a digest", with(row, json!(["end", 3]))),
    ];
    for name in [
        "../evil",
        "/tmp/evil",
        "keys/../../evil",
        "keys/evil.sh",
        "keys/.evil.key",
        "keys/a/b.key",
        "policies/x.key",
        "evil",
    ] {
        cases.push(("a file that no ward has", with(0, json!(["file", name, octets]))));
    }
    for (what, lines) in cases {
        let into = bench.path("into");
        forged(&bench, "forged", &key, &header, &lines);
        let refused = put_back(&bench, "forged", &key, &into);
        assert!(refused.is_err(), "{what} was taken");
        assert!(!into.join("ward.toml").exists() && !into.join("ward.db").exists(), "{what} became a ward");
        for evil in ["evil", "ward/evil", "into/evil", "into/keys/evil.sh"] {
            assert!(!bench.path(evil).exists(), "{what}");
        }
        assert!(!Path::new("/tmp/evil").exists());
        let _ = std::fs::remove_dir_all(into);
        std::fs::remove_file(bench.path("forged")).unwrap();
    }
    // One that says that it ends elsewhere, or is another ward's.
    for (field, value) in [("entries", json!(3)), ("head", json!("00")), ("ward", json!("urn:uuid:2"))] {
        let mut header = header.clone();
        header[field] = value;
        forged(&bench, "forged", &key, &header, &lines);
        let refused = put_back(&bench, "forged", &key, &bench.path("into"));
        if field != "ward" {
            assert!(refused.unwrap_err().text_for_people().contains("does not end where it says"), "{field}");
        }
        let _ = std::fs::remove_dir_all(bench.path("into"));
    }
    // A record that was changed, with a digest that fits.
    let entry = lines.iter().position(|line| line[1] == "audit").unwrap();
    let mut tampered = lines.clone();
    tampered[entry][6] = json!("somebody else");
    forged(&bench, "forged", &key, &header, &tampered);
    assert!(put_back(&bench, "forged", &key, &bench.path("into")).is_err());
    // The good one still is.
    let _ = std::fs::remove_dir_all(bench.path("into"));
    forged(&bench, "forged", &key, &header, &lines);
    put_back(&bench, "forged", &key, &bench.path("into")).unwrap();
    assert_eq!(count(&bench.path("into")), 5);
}

#[test]
fn whether_it_goes_back_in_time_is_known_by_what_is_there_and_by_what_was_seen() {
    let (mut bench, key) = (Bench::new(), key());
    bench.list(["wv-1".to_owned()].into_iter());
    let done = made(&bench, "early", &key, false);
    let head: [u8; 32] = HEXLOWER.decode(done.header.head.as_bytes()).unwrap().try_into().unwrap();
    let dir = bench.ward.dir.clone();
    let place = || StorePlace::File(dir.join("ward.db"));
    let back = |bench: &Bench, seen| {
        let opened = backup::open(&bench.path("early")).unwrap();
        backup::target(&opened, &dir, place(), &seen).unwrap().back
    };
    assert_eq!(back(&bench, None), None, "it is what is there");
    assert_eq!(back(&bench, Some((2, head))), None);
    assert_eq!(back(&bench, Some((1, [9; 32]))), None, "what was seen stands before its end");
    assert!(back(&bench, Some((2, [9; 32]))).unwrap().contains("another entry 2"));
    assert!(back(&bench, Some((7, head))).unwrap().contains("has seen entry 7"));
    bench.list(["wv-2".to_owned()].into_iter());
    assert!(back(&bench, None).unwrap().contains("ends with entry 3"));
    // What cannot be opened may have gone further, unless a guard knows.
    std::fs::write(dir.join("ward.db"), "no store at all").unwrap();
    for leftover in ["ward.db-wal", "ward.db-shm"] {
        let _ = std::fs::remove_file(dir.join(leftover));
    }
    assert!(back(&bench, None).unwrap().contains("nobody knows how far it went"));
    assert_eq!(back(&bench, Some((2, head))), None);
    // Then it is put back over it, and what was there stays beside it.
    let opened = backup::open(&bench.path("early")).unwrap();
    let target = backup::target(&opened, &dir, place(), &Some((2, head))).unwrap();
    backup::restore(opened, &key, &target, ("ada", "")).unwrap();
    assert_eq!((count(&dir), std::fs::read(dir.join("ward.db.before")).unwrap()), (1, b"no store at all".to_vec()));
}

#[test]
fn a_file_that_is_no_backup_is_told_so_whatever_is_in_it() {
    let bench = Bench::new();
    for content in [
        "",
        "\n",
        "tidy-warden backup 2\n{}\n",
        "tidy-warden backup 1\n",
        "tidy-warden backup 1\nno json\n",
        "tidy-warden backup 1\n{}\n",
    ] {
        let path = bench.write("some", content);
        assert_eq!(backup::open(&path).unwrap_err().kind(), Kind::Refused, "{content:?}");
    }
    let endless = format!("tidy-warden backup 1\n{{\"ward\":\"{}", "x".repeat(1 << 20));
    assert_eq!(backup::open(&bench.write("some", &endless)).unwrap_err().kind(), Kind::Refused);
    assert_eq!(backup::open(&bench.path("none")).unwrap_err().kind(), Kind::NotFound);
    // A key of another type seals nothing, and nothing is left of the try.
    let ed25519 = SoftwareKey::generate(NewKey::Ed25519).unwrap();
    let lock = Lock::Key(ed25519.public_key().clone());
    let refused = backup::write(&bench.ward, &bench.path("out"), &lock, false).unwrap_err();
    assert!(refused.text_for_people().contains("p256 or p384") && !bench.path("out").exists());
}
