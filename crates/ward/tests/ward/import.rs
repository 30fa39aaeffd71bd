//! Lists of devices: all of one, what of it can be taken, or a long one in batches.

use std::path::Path;

use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_store::{JobKind, Lease};
use tidy_warden_ward::clock::WardClock;
use tidy_warden_ward::import::{self, AT_ONCE, List};
use tidy_warden_ward::problem::Problem;

use tidy_warden_rig::ward::{Bench, NOW, nobody};

fn take(bench: &mut Bench, from: &Path, rejects: Option<&Path>) -> Result<(usize, Option<u32>, String), Problem> {
    let (octets, plan) = import::open(&bench.ward, from, rejects)?;
    let settings = bench.ward.settings.clone();
    let mut list = List::read(octets, &plan.shown, &settings, bench.ward.now())?;
    let cause = bench.ward.cause(Some("a delivery"));
    let (taken, job) = list.store(&mut bench.ward, &plan, &cause, &mut nobody())?;
    Ok((taken, job, list.bad_rows()))
}

fn long(count: usize) -> String {
    let rows: Vec<String> = (0..count).map(|number| format!("wv-{number:05},windvane,QF-{number}")).collect();
    format!("id,kind,fact.serial\n{}\n", rows.join("\n"))
}

#[test]
fn a_list_is_taken_whole_or_not_at_all_and_all_that_is_wrong_is_told() {
    let mut bench = Bench::new();
    let bad = bench.write(
        "bad.csv",
        "id,kind,fact.serial\nwv-1,windvane,QF-1\nWV 2,windvane,QF-2\nwv-3,pony,QF-3\nwv-4,windvane,QF-1\n",
    );
    let (taken, job, told) = take(&mut bench, &bad, None).unwrap();
    assert_eq!((taken, job, bench.count()), (0, None, 0));
    for line in ["line 3", "line 4", "line 5"] {
        assert!(told.contains(line), "{told}");
    }
    let good = bench.write("good.csv", "id,kind,fact.serial\nwv-1,windvane,QF-1\nwv-3,station,QF-3\n");
    assert_eq!(take(&mut bench, &good, None).unwrap().0, 2);
    let twice = take(&mut bench, &good, None).unwrap();
    assert_eq!((twice.0, bench.count()), (0, 2));
    assert!(twice.2.contains("wv-1"), "{}", twice.2);
    for (name, text) in [("empty.csv", ""), ("head.csv", "id,kind\n"), ("odd.csv", "id,kind,nonsense\na,b,c\n")] {
        let path = bench.write(name, text);
        assert!(take(&mut bench, &path, None).is_err(), "{name}");
    }
    assert!(take(&mut bench, Path::new("/nowhere/list.csv"), None).is_err());
}

#[test]
fn what_can_be_taken_is_and_the_rest_is_a_list_that_can_be_mended_and_given_again() {
    let mut bench = Bench::new();
    let list = bench.write(
        "list.jsonl",
        "{\"id\":\"wv-1\",\"kind\":\"windvane\"}\n{\"id\":\"wv-2\",\"kind\":\"pony\"}\n{\"id\":\"wv-3\"}\nnot json\n{\"id\":\"wv-4\",\"kind\":\"windvane\",\"gateway\":\"st-9\"}\n",
    );
    let rejects = bench.path("rejects.jsonl");
    let (octets, plan) = import::open(&bench.ward, &list, Some(&rejects)).unwrap();
    let settings = bench.ward.settings.clone();
    let mut read = List::read(octets, &plan.shown, &settings, NOW).unwrap();
    let cause = bench.ward.cause(None);
    let (taken, _) = read.store(&mut bench.ward, &plan, &cause, &mut nobody()).unwrap();
    assert_eq!((taken, bench.count(), read.bad.len()), (1, 1, 4));
    let text = String::from_utf8(read.rejects()).unwrap();
    assert_eq!(text.lines().count(), 4, "{text}");
    assert!(text.contains("pony") && text.contains("st-9"), "{text}");
}

#[test]
fn a_long_list_is_a_job_and_the_same_list_is_done_once() {
    let mut bench = Bench::new();
    let count = 2 * AT_ONCE + 10;
    let path = bench.write("long.csv", &long(count));
    let (taken, job, _) = take(&mut bench, &path, None).unwrap();
    assert_eq!((taken, job, bench.count()), (count, Some(1), count));
    assert!(bench.ward.store.job(1).unwrap().unwrap().ended.is_some());
    assert_eq!(take(&mut bench, &path, None).unwrap().0, 0, "all are listed already");
    assert!(bench.ward.store.jobs(true, 9).unwrap().is_empty());
}

#[test]
fn a_long_list_that_was_left_goes_on_with_the_list_it_was_begun_with_or_ends_where_it_stands() {
    let mut bench = Bench::new();
    let count = AT_ONCE + 10;
    let path = bench.write("long.csv", &long(count));
    // Somebody else began it and is gone: its plan is what this process would have noted.
    let (octets, plan) = import::open(&bench.ward, &path, None).unwrap();
    let planned = serde_json::to_string(&plan).unwrap();
    let settings = bench.ward.settings.clone();
    let list = List::read(octets, &plan.shown, &settings, NOW).unwrap();
    let begin = |bench: &mut Bench, digest: u8| {
        let new = tidy_warden_store::NewJob {
            kind: JobKind::Import,
            digest: [digest; 32],
            plan: &planned,
            position: r#"{"devices":0}"#,
            parts: &[String::new()],
            subject: "import",
        };
        let lease = Lease { holder: "pid 7 of elsewhere (1)".into(), until: NOW.plus(Span::from_seconds(60)) };
        let cause = bench.ward.cause(None);
        bench.ward.store.begin_job(&new, &lease, &cause).unwrap().unwrap()
    };
    let number = begin(&mut bench, 1);
    assert!(import::resume(&mut bench.ward, number, &mut nobody()).is_err(), "somebody works on it");
    bench.ward.clock = WardClock::Fixed(UnixTime(NOW.0 + 61));
    std::fs::write(&path, long(count + 1)).unwrap();
    let other = import::resume(&mut bench.ward, number, &mut nobody()).unwrap_err();
    assert!(other.text_for_people().contains("not the list that the job was begun with"));
    assert_eq!(bench.count(), 0);
    std::fs::write(&path, long(count)).unwrap();
    assert_eq!(import::resume(&mut bench.ward, number, &mut nobody()).unwrap(), count);
    assert_eq!((bench.count(), list.good.len()), (count, count));

    bench.ward.clock = WardClock::Fixed(NOW);
    let second = begin(&mut bench, 2);
    bench.ward.clock = WardClock::Fixed(UnixTime(NOW.0 + 61));
    // All of them are listed by now: nothing can be taken, and it says so and ends.
    let met = import::resume(&mut bench.ward, second, &mut nobody()).unwrap_err();
    assert!(met.text_for_people().contains("somebody listed others meanwhile"), "{}", met.text_for_people());
    assert!(bench.ward.store.job(second).unwrap().unwrap().ended.is_some());
    assert!(import::stop(&mut bench.ward, second).is_err(), "it is over");
}
