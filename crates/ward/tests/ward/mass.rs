//! Acts on many devices.

use tidy_warden_core::claim::{CodeDigest, OpenClaim, OpenedBy};
use tidy_warden_core::device::DeviceEdit;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::owner::OwnerRecord;
use tidy_warden_core::revocation::Reason;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_store::acts::{claim, owner};
use tidy_warden_store::{JobKind, JobRefusal, Lease, NewJob, Take, Taken};
use tidy_warden_ward::bulk::Watch;
use tidy_warden_ward::claim::by_rules;
use tidy_warden_ward::clock::WardClock;
use tidy_warden_ward::lease;
use tidy_warden_ward::mass::{self, AT_ONCE, Item, MassAct};
use tidy_warden_ward::open::Ward;
use tidy_warden_ward::problem::Kind;

use tidy_warden_rig::ward::{Bench, NOW, Watched, nobody};

const MANY: usize = 2 * AT_ONCE + 500;

fn fleet(bench: &mut Bench) -> Vec<DeviceId> {
    bench.list((0..MANY).map(|number| format!("wv-{number:04}")))
}

#[test]
fn a_few_are_one_change_and_many_are_a_job_that_is_over_at_its_end() {
    let mut bench = Bench::new();
    let ids = fleet(&mut bench);
    let few = mass::run(&mut bench.ward, &MassAct::Hold, &ids[..3], Some("a storm"), &mut nobody()).unwrap().unwrap();
    assert_eq!((few.job, few.count, few.changed.len()), (None, 3, 3));
    let mut watched = Watched(Vec::new());
    let all = mass::run(&mut bench.ward, &MassAct::Hold, &ids, Some("a storm"), &mut watched).unwrap().unwrap();
    assert_eq!((all.job, all.count), (Some(1), u64::try_from(MANY - 3).unwrap()), "three were on hold already");
    let reached: Vec<u64> = watched.0.iter().map(|(devices, ..)| *devices).collect();
    assert_eq!(reached, [1000, 2000, 2500]);
    let job = bench.ward.store.job(1).unwrap().unwrap();
    assert!(job.ended.is_some() && job.kind == JobKind::Hold && job.because == "a storm");
    assert_eq!(mass::resume(&mut bench.ward, 1, &mut nobody()).err().unwrap().kind(), Kind::NotFound, "it is over");
    assert!(bench.ward.store.jobs(true, 9).unwrap().is_empty());
    let revoked = mass::run(&mut bench.ward, &MassAct::Revoke(Reason::CessationOfOperation), &ids, None, &mut nobody());
    assert_eq!(revoked.unwrap().unwrap().ended, 0, "none had a certificate");
}

#[test]
fn an_edit_that_one_device_cannot_take_changes_none() {
    let mut bench = Bench::new();
    let ids = fleet(&mut bench);
    // Nobody stands behind itself.
    let edit = DeviceEdit { gateway: Some(Some(ids[MANY - 1].clone())), ..DeviceEdit::default() };
    let refused = mass::run(&mut bench.ward, &MassAct::Edit(edit.clone()), &ids, None, &mut nobody()).unwrap();
    assert_eq!(refused.err().unwrap().0, ids[MANY - 1]);
    assert!(bench.ward.device(&ids[0]).unwrap().device.gateway.is_none());
    assert!(bench.ward.store.jobs(false, 9).unwrap().is_empty(), "no job was begun for it");
    let done = mass::run(&mut bench.ward, &MassAct::Edit(edit), &ids[..MANY - 1], None, &mut nobody()).unwrap();
    assert_eq!(done.unwrap().count, u64::try_from(MANY - 1).unwrap());
    assert_eq!(bench.ward.device(&ids[0]).unwrap().device.gateway.as_ref(), ids.last());
}

/// Devices of a kind that is claimed with codes, and what is kept of a code for each.
fn coded(ids: &[DeviceId]) -> Vec<Item> {
    let code = |number: usize| {
        let mut digest = [7; 32];
        digest[..8].copy_from_slice(&number.to_be_bytes());
        Some(CodeDigest { salt: [3; 16], digest })
    };
    ids.iter().enumerate().map(|(number, id)| Item { device: id.clone(), code: code(number) }).collect()
}

#[test]
fn many_are_opened_by_a_job_that_goes_on_and_brings_no_code_back() {
    let mut bench = Bench::new();
    let ids = fleet(&mut bench);
    let items = coded(&ids);
    let (opened, ends) = (NOW, NOW.plus(Span::from_days(30)));
    let act = MassAct::Open { opened, ends };
    let is_open = |bench: &Bench, at: usize| {
        let found = bench.ward.store.claim(&ids[at], OpenedBy::Person).unwrap();
        found.map(|claim| (claim.code.unwrap().is_same(&items[at].code.unwrap()), claim.opened, claim.ends))
    };
    // It is stopped before its second part, and what becomes of some devices before it goes on is not undone.
    let mut stopped = Halted { bench: bench.again(), at: 1000 };
    let interrupted = mass::run_with(&mut bench.ward, &act, &items, Some("sold"), &mut stopped).unwrap_err();
    assert!(interrupted.text_for_people().contains("job resume 1"), "{}", interrupted.text_for_people());
    assert_eq!((is_open(&bench, 999), is_open(&bench, 1000)), (Some((true, opened, ends)), None));
    let late = UnixTime(NOW.0 + 100);
    bench.ward.clock = WardClock::Fixed(late);
    let cause = bench.ward.cause(None);
    let owner = OwnerRecord::new("mole".parse().unwrap(), NOW);
    bench.ward.store.decide(|tx| owner::add(tx, &owner, &cause)).unwrap().unwrap();
    let claim = |at: usize, code: u8, opened: UnixTime| OpenClaim {
        device: ids[at].clone(),
        by: OpenedBy::Person,
        code: Some(CodeDigest { salt: [1; 16], digest: [code; 32] }),
        opened,
        ends,
    };
    // One was opened anew, one was claimed and given up again, one is somebody's, one is on hold.
    let settings = bench.ward.settings.clone();
    by_rules(&settings, |rules| {
        let store = &mut bench.ward.store;
        for (at, code) in [(1001, 1), (1002, 2), (1003, 3)] {
            store.decide(|tx| claim::open(tx, &[claim(at, code, late)], &cause)).unwrap().unwrap();
        }
        for at in [1002, 1003] {
            let shown = claim(at, u8::try_from(at - 1000).unwrap(), late).code;
            let take = Take { device: &ids[at], owner: &owner.id, wanted: &[], shown, source: None };
            let taken = store.make(|tx| claim::take(tx, &take, rules, &cause)).unwrap();
            assert!(matches!(taken, Taken::Yes(_)), "{taken:?}");
        }
        store.decide(|tx| claim::give_up(tx, &ids[1002], None, rules, &cause)).unwrap().unwrap();
        store.set_hold(&ids[1004..1005], true, &cause).unwrap();
    });
    let done = mass::resume(&mut bench.ward, 1, &mut nobody()).unwrap().unwrap();
    assert_eq!(done.count, u64::try_from(MANY - 4).unwrap());
    assert_eq!(is_open(&bench, 1001), Some((false, late, ends)), "the newer code counts");
    assert_eq!([1002, 1003, 1004].map(|at| is_open(&bench, at)), [None; 3]);
    assert_eq!([1000, 1005, MANY - 1].map(|at| is_open(&bench, at)), [Some((true, opened, ends)); 3]);
    // All that is somebody's is given up; what is nobody's stays as it is.
    let given = mass::run(&mut bench.ward, &MassAct::GiveUp, &ids, Some("over"), &mut nobody()).unwrap().unwrap();
    assert_eq!((given.count, given.changed), (1, vec![ids[1003].clone()]));
}

/// Takes the store away from a run when it has done so much, as a process that is killed: another one takes its job.
struct Halted {
    bench: Ward,
    at: u64,
}

impl Watch for Halted {
    fn reached(&mut self, devices: u64, _: u64, _: u64) {
        if devices == self.at {
            let later = WardClock::Fixed(UnixTime(NOW.0 + 61));
            let (clock, cause) = (std::mem::replace(&mut self.bench.clock, later), self.bench.cause(None));
            let lease = Lease { holder: "pid 7 of elsewhere (1)".into(), until: NOW };
            let taken = self.bench.store.take_job(1, &lease, &|_| true, &cause);
            assert!(matches!(taken, Ok(Ok(_))), "{taken:?}");
            self.bench.clock = clock;
        }
    }

    fn finish(&self) {}
}

/// Begins a job as somebody does who is gone after its first part.
fn half_done(bench: &mut Bench, ids: &[DeviceId], holder: &str) -> u32 {
    let parts: Vec<String> =
        ids.chunks(AT_ONCE).map(|some| some.iter().map(DeviceId::as_str).collect::<Vec<_>>().join("\n")).collect();
    let plan = format!(r#"{{"act":"hold","count":{},"list_sha256":"x"}}"#, ids.len());
    let new = NewJob {
        kind: JobKind::Hold,
        digest: [7; 32],
        plan: &plan,
        position: r#"{"parts":1,"devices":1000,"changed":1000,"ended":0,"listed":false}"#,
        parts: &parts,
        subject: "hold",
    };
    let cause = bench.ward.cause(Some("a storm"));
    bench.ward.store.set_hold(&ids[..AT_ONCE], true, &cause).unwrap();
    let lease = Lease { holder: holder.into(), until: NOW.plus(Span::from_seconds(60)) };
    bench.ward.store.begin_job(&new, &lease, &cause).unwrap().unwrap()
}

#[test]
fn what_was_killed_goes_on_where_it_was_and_tells_all_of_it() {
    let mut bench = Bench::new();
    let ids = fleet(&mut bench);
    let gone =
        format!("pid 4000000000 of {} (1)", lease::holder().split_once(" of ").unwrap().1.split_once(" (").unwrap().0);
    let number = half_done(&mut bench, &ids, &gone);
    let done = mass::resume(&mut bench.ward, number, &mut nobody()).unwrap().unwrap();
    assert_eq!((done.count, done.changed.len()), (u64::try_from(MANY).unwrap(), MANY - AT_ONCE));
    assert!(bench.ward.device(&ids[MANY - 1]).unwrap().device.held.is_some());
    let entries: Vec<String> = {
        let mut acts = Vec::new();
        bench
            .ward
            .store
            .each_entry(1, &mut |entry| {
                acts.push(entry.because);
                true
            })
            .unwrap();
        acts
    };
    assert!(entries.iter().rev().take(3).all(|because| because == "a storm"), "it is done for the first reason");
}

#[test]
fn somebody_elses_job_is_left_alone_until_its_lease_is_over() {
    let mut bench = Bench::new();
    let ids = fleet(&mut bench);
    let number = half_done(&mut bench, &ids, "pid 7 of elsewhere (1)");
    let held = mass::resume(&mut bench.ward, number, &mut nobody()).err().unwrap();
    assert!(held.text_for_people().contains("somebody works on it"), "{}", held.text_for_people());
    assert!(mass::stop(&mut bench.ward, number).is_err());
    bench.ward.clock = WardClock::Fixed(UnixTime(NOW.0 + 61));
    let stopped = mass::stop(&mut bench.ward, number).unwrap();
    assert_eq!(stopped.count, 1000);
    let job = bench.ward.store.job(number).unwrap().unwrap();
    assert!(job.stopped && job.ended.is_some());
    let again = bench.ward.store.take_job(number, &lease::from(NOW), &lease::is_gone, &bench.ward.cause(None));
    assert!(matches!(again, Ok(Err(JobRefusal::Over { .. }))), "{again:?}");
}
