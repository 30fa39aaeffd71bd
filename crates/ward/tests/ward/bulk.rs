//! Many certificates at once.

use std::path::Path;

use tidy_warden_ward::bulk::{self, Place, Run, Wanted, Work};
use tidy_warden_ward::problem::Problem;

use tidy_warden_rig::ward::{Bench, Holder, nobody};

fn list(bench: &Bench, name: &str, count: usize) -> std::path::PathBuf {
    let rows: Vec<String> = (0..count).map(|number| format!("wv-{number:04},windvane")).collect();
    bench.write(name, &format!("id,kind\n{}\nwv-bad,pony\n", rows.join("\n")))
}

fn plan(bench: &Bench, from: &Path, place: Place) -> Result<bulk::Plan, Problem> {
    let wanted = Wanted { from, place, rejects: None, again: false, because: Some("a delivery"), batch: 64 };
    bulk::plan(&bench.ward, &wanted).map(|(plan, rows)| {
        assert!(rows > 0);
        plan
    })
}

fn all(bench: &mut Bench, plan: &bulk::Plan) -> Run {
    let run = bulk::run(&bench.ward, Work::New(plan), &Holder::right(), &mut nobody()).unwrap();
    bulk::conclude(&mut bench.ward, &run, false).unwrap();
    run
}

#[test]
fn a_pack_and_folders_hold_what_the_ward_recorded() {
    let mut bench = Bench::new();
    let from = list(&bench, "one.csv", 150);
    let pack = bench.path("fleet.tar.zst");
    let planned = plan(&bench, &from, Place::Pack(pack.clone())).unwrap();
    let run = all(&mut bench, &planned);
    assert_eq!((run.position.issued, run.position.refused, run.number), (150, 1, 1));
    assert!(pack.exists() && bench.path("fleet.tar.zst.part").metadata().is_err());
    assert_eq!(bench.count(), 150);
    let refused = std::fs::read_to_string(&planned.rejects).unwrap();
    assert!(refused.contains("wv-bad") && refused.contains("pony"), "{refused}");
    let job = bench.ward.store.job(1).unwrap().unwrap();
    assert!(job.ended.is_some() && !job.stopped && job.because == "a delivery");

    let rows: Vec<String> = (0..70).map(|number| format!("st-{number},windvane")).collect();
    let more = bench.write("two.csv", &format!("id,kind\n{}\n", rows.join("\n")));
    let folder = bench.path("outfits");
    let planned = plan(&bench, &more, Place::Folders(folder.clone())).unwrap();
    let run = all(&mut bench, &planned);
    assert_eq!((run.position.issued, run.number), (70, 2));
    assert_eq!(std::fs::read_dir(&folder).unwrap().filter(|each| each.as_ref().unwrap().path().is_dir()).count(), 70);
    assert!(folder.join("st-69/device.key").exists());
}

#[test]
fn nothing_is_begun_that_cannot_be_finished() {
    let mut bench = Bench::new();
    let from = list(&bench, "one.csv", 10);
    let taken = bench.write("taken.tar.zst", "x");
    assert!(plan(&bench, &from, Place::Pack(taken)).is_err(), "nothing is written over");
    let place = || Place::Pack(bench.path("fleet.tar.zst"));
    assert!(plan(&bench, Path::new("/nowhere.csv"), place()).is_err());
    let planned = plan(&bench, &from, place()).unwrap();
    let wrong = bulk::run(&bench.ward, Work::New(&planned), &Holder::wrong(), &mut nobody()).unwrap_err();
    assert!(wrong.text_for_people().contains("the passphrase is wrong"));
    assert_eq!(bench.count(), 0);
    assert!(bench.ward.store.jobs(false, 9).unwrap().is_empty(), "a wrong passphrase leaves nothing behind");
    all(&mut bench, &planned);
    assert!(bulk::begun(&mut bench.ward, None).is_err(), "there is none that is not ended");
}

#[test]
fn a_run_that_was_left_goes_on_with_its_list_or_ends_where_it_stands() {
    let mut bench = Bench::new();
    let from = list(&bench, "one.csv", 200);
    let planned = plan(&bench, &from, Place::Pack(bench.path("fleet.tar.zst"))).unwrap();
    // Done to the end, and the store was not told.
    let run = bulk::run(&bench.ward, Work::New(&planned), &Holder::right(), &mut nobody()).unwrap();
    assert!(plan(&bench, &from, Place::Pack(bench.path("other.tar.zst"))).is_err(), "one at a time");
    let mut other = bench.again();
    // The process that began it is this one, and lives.
    let begun = bulk::begun(&mut other, None).unwrap();
    assert!(begun.done && begun.number == run.number);
    assert_eq!(begun.position, run.position);
    bulk::same_list(&begun.plan).unwrap();
    std::fs::write(&from, "id,kind\nwv-1,windvane\n").unwrap();
    assert!(bulk::same_list(&begun.plan).unwrap_err().text_for_people().contains("not the list"));
    bulk::conclude(&mut other, &begun, false).unwrap();
    assert!(bulk::conclude(&mut bench.ward, &run, false).is_err(), "it is ended once");
    assert!(bench.ward.store.job(run.number).unwrap().unwrap().ended.is_some());
}
