//! Acts on many devices.

use tidy_warden_core::device::DeviceEdit;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::revocation::Reason;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_store::{JobKind, JobRefusal, Lease, NewJob};
use tidy_warden_ward::clock::WardClock;
use tidy_warden_ward::lease;
use tidy_warden_ward::mass::{self, AT_ONCE, MassAct};
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
