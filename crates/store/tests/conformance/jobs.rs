//! Jobs: done once, by one at a time, whoever is killed.

use tidy_warden_core::time::UnixTime;
use tidy_warden_store::{Batch, JobKind, JobRefusal, Lease, NewJob, Reached, StoreError};

use crate::bench::{NOW, cause, device, id, on_each};

fn lease(holder: &str, until: i64) -> Lease {
    Lease { holder: holder.to_owned(), until: UnixTime(NOW + until) }
}

fn new<'a>(kind: JobKind, digest: u8, parts: &'a [String]) -> NewJob<'a> {
    NewJob { kind, digest: [digest; 32], plan: r#"{"of":3}"#, position: "0", parts, subject: "3 devices" }
}

#[test]
fn the_same_is_done_once_and_by_one_at_a_time() {
    on_each(|store, _, _| {
        let parts = ["a".to_owned(), "b".to_owned()];
        let job = new(JobKind::Hold, 1, &parts);
        let (ada, bo) = (lease("ada", 60), lease("bo", 200));
        assert_eq!(store.begin_job(&job, &ada, &cause(0)).unwrap(), Ok(1));
        assert_eq!(store.begin_job(&job, &bo, &cause(1)).unwrap(), Err(JobRefusal::Same { job: 1 }));
        assert_eq!(store.begin_job(&new(JobKind::Release, 1, &[]), &bo, &cause(1)).unwrap(), Ok(2), "another kind");
        let told = store.entries(2, 9).unwrap().remove(0);
        assert_eq!((told.act.as_str(), told.detail.as_str()), ("job.begin", r#"{"run":1,"plan":{"of":3}}"#));
        let parts: Vec<_> = (0..3).map(|place| store.job_part(1, place).unwrap()).collect();
        assert_eq!(parts, [Some("a".to_owned()), Some("b".to_owned()), None]);

        // Held until its time is over, or its holder is known to be gone.
        let refused = store.take_job(1, &bo, &|_| false, &cause(60)).unwrap();
        assert_eq!(refused, Err(JobRefusal::Held { job: 1, lease: ada.clone() }));
        assert!(store.take_job(1, &bo, &|holder| holder == "ada", &cause(60)).unwrap().is_ok());
        assert_eq!(
            store.take_job(1, &ada, &|_| false, &cause(201)).unwrap().unwrap().position,
            "0",
            "its time is over"
        );
        assert_eq!(store.take_job(7, &bo, &|_| false, &cause(1)).unwrap(), Err(JobRefusal::Over { job: 7 }));

        // Who lost it does nothing any more, however it comes back.
        store.add_devices(&[device("wv-1", None)], &cause(2)).unwrap().unwrap();
        let before = store.audit_end().unwrap();
        let late = store.job_batch(1, &bo, |tx| {
            tx.touch(&id("wv-1"), 99)?;
            Ok(Ok::<_, ()>(((), "1".to_owned())))
        });
        assert!(matches!(late, Err(StoreError::TakenOver { job: 1 })));
        let reached = Some(Reached { job: 1, position: "1", lease: bo.clone() });
        let devices = [device("wv-2", None)];
        let batch = Batch { act: "enroll.batch", devices: &devices, credentials: &[], list_digest: [0; 32], reached };
        let late = store.record_batch(&batch, &cause(3), &mut || Ok(()));
        assert!(matches!(late, Err(StoreError::TakenOver { job: 1 })));
        assert!(matches!(
            store.end_job(1, "bo", serde_json::json!({}), false, &cause(3)),
            Err(StoreError::TakenOver { job: 1 })
        ));
        assert_eq!((store.devices(&[id("wv-2")]).unwrap(), store.audit_end().unwrap()), (vec![None], before));

        let kept = store.job_batch(1, &ada, |_| Ok(Ok::<_, ()>((5, "1".to_owned())))).unwrap();
        assert_eq!((kept, store.job(1).unwrap().unwrap().position.as_str()), (Ok(5), "1"));
        let refused = store.job_batch(1, &ada, |_| Ok(Err::<((), String), _>("no"))).unwrap();
        assert_eq!((refused, store.job(1).unwrap().unwrap().position.as_str()), (Err("no"), "1"));
        store.end_job(1, "ada", serde_json::json!({ "held": 2 }), true, &cause(4)).unwrap();
        let ended = store.job(1).unwrap().unwrap();
        assert_eq!((ended.ended, ended.stopped, ended.lease), (Some(UnixTime(NOW + 4)), true, None));
        assert_eq!(store.job_part(1, 0).unwrap(), None);
        let open: Vec<u32> = store.jobs(true, 9).unwrap().into_iter().map(|job| job.number).collect();
        let all: Vec<u32> = store.jobs(false, 9).unwrap().into_iter().map(|job| job.number).collect();
        assert_eq!((open, all), (vec![2], vec![2, 1]));
        assert_eq!(store.begin_job(&job, &bo, &cause(5)).unwrap(), Ok(3), "what ended can be done again");
    });
}

#[test]
fn jobs_that_nobody_ends_do_not_pile_up_without_bound() {
    on_each(|store, _, _| {
        for digest in 0..100 {
            store.begin_job(&new(JobKind::Hold, digest, &[]), &lease("ada", 60), &cause(0)).unwrap().unwrap();
        }
        let refused = store.begin_job(&new(JobKind::Hold, 200, &[]), &lease("ada", 60), &cause(0)).unwrap();
        assert_eq!(refused, Err(JobRefusal::TooMany));
    });
}
