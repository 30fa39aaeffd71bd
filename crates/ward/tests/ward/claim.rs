//! Claims: what guessing and measuring give away.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use tidy_warden_core::claim::{Code, Scope};
use tidy_warden_core::id::{DeviceId, OwnerId};
use tidy_warden_core::owner::OwnerRecord;
use tidy_warden_core::time::Span;
use tidy_warden_store::OperatorStore;
use tidy_warden_store::acts::claim::Taken;
use tidy_warden_store::acts::owner;
use tidy_warden_ward::claim::{Wish, open, openings, take};
use tidy_warden_ward::clock::SystemRandom;
use tidy_warden_ward::open::Ward;

use tidy_warden_rig::ward::{Bench, NOW};

const DAY: Span = Span::from_days(1);

fn add_owner(ward: &mut Ward, name: &str) -> OwnerId {
    let id: OwnerId = name.parse().unwrap();
    let record = OwnerRecord::new(id.clone(), NOW);
    let cause = ward.cause(None);
    ward.store.decide(|tx| owner::add(tx, &record, &cause)).unwrap().unwrap();
    id
}

/// Opens devices, and gives the code of each.
fn opened(ward: &mut Ward, ids: &[DeviceId]) -> Vec<Code> {
    let devices: Vec<_> = ids.iter().map(|id| ward.device(id).unwrap().device).collect();
    let made = openings(&ward.settings, &devices, None, (NOW, NOW.plus(DAY)));
    let claims: Vec<_> = made.iter().map(|each| each.claim.clone()).collect();
    let cause = ward.cause(None);
    open(&mut ward.store, &claims, &cause).unwrap().unwrap();
    made.into_iter().map(|each| each.code.unwrap()).collect()
}

fn try_with(
    ward: &mut Ward,
    (device, owner): (&DeviceId, &OwnerId),
    code: &Code,
    source: Option<&str>,
) -> (Taken, Duration) {
    let cause = ward.cause(None);
    let settings = ward.settings.clone();
    let wish = Wish { device, owner, wanted: &[], code: Some(code), source };
    let begun = Instant::now();
    let taken = take(&mut ward.store, &settings, &wish, &cause).unwrap();
    (taken, begun.elapsed())
}

fn middle(mut all: Vec<Duration>) -> Duration {
    all.sort();
    all[all.len() / 2]
}

/// How many tries at codes were judged: each is an entry of the record.
fn judged(store: &OperatorStore) -> u64 {
    let mut count = 0;
    let counts = &mut |entry: tidy_warden_core::audit::Entry| {
        count += u64::from(entry.act.starts_with("claim.refuse"));
        true
    };
    store.each_entry(1, counts).unwrap();
    count
}

#[test]
fn a_hundred_thousand_guesses_get_nowhere_and_hold_up_nobody() {
    const OWNERS: usize = 40;
    const NETWORKS: usize = 400;
    const GUESSES: u64 = 100_000;
    let mut bench = Bench::new();
    let ids = bench.list((0..300).map(|number| format!("cc-{number:03}")));
    let ward = &mut bench.ward;
    let codes = opened(ward, &ids);
    let honest = add_owner(ward, "brindle-pass");
    let thieves: Vec<OwnerId> = (0..OWNERS).map(|number| add_owner(ward, &format!("thief-{number}"))).collect();
    let mut left = ids.iter().zip(&codes);
    let claim = |ward: &mut Ward, (id, code): (&DeviceId, &Code)| {
        let (taken, took) = try_with(ward, (id, &honest), code, Some("198.51.100.0/24"));
        assert!(matches!(taken, Taken::Yes(_)), "{id}: {taken:?}");
        took
    };
    // The last one is the one that is wanted; nobody honest asks for it before the end.
    let (wanted, its_code) = left.next_back().unwrap();
    let wanted = wanted.clone();
    let wrong = Code::new(&mut SystemRandom);
    let guess = |ward: &mut Ward, number: u64| {
        let number = usize::try_from(number).unwrap();
        let network = number % NETWORKS;
        let source = format!("203.{}.{}.0/24", network / 256, network % 256);
        let (taken, _) = try_with(ward, (&wanted, &thieves[number % OWNERS]), &wrong, Some(&source));
        assert_eq!(taken, Taken::No);
    };
    // Quiet and under the flood by turns. What else the machine does meanwhile goes away again; what the flood does would be there each time.
    let mut tries = 0;
    let ratio = loop {
        tries += 1;
        let (mut quiet, mut flooded) = (Vec::new(), Vec::new());
        let next = AtomicU64::new(0);
        for _ in 0..3 {
            quiet.extend((0..6).map(|_| claim(ward, left.next().unwrap())));
            let is_over = Arc::new(AtomicBool::new(false));
            let mut other = opened_again(ward);
            std::thread::scope(|scope| {
                let (over, next, guess) = (is_over.clone(), &next, &guess);
                scope.spawn(move || {
                    while !over.load(Ordering::Relaxed) {
                        guess(&mut other, next.fetch_add(1, Ordering::Relaxed));
                    }
                });
                flooded.extend((0..6).map(|_| claim(ward, left.next().unwrap())));
                is_over.store(true, Ordering::Relaxed);
            });
        }
        let ratio = middle(flooded).as_secs_f64() / middle(quiet).as_secs_f64();
        if ratio < 2.0 || tries == 8 {
            break ratio;
        }
    };
    assert!(ratio < 2.0, "another owner's claim takes {ratio:.1} times as long");
    (0..GUESSES).for_each(|number| guess(ward, number));
    // One owner is heard five times here, and once so many were wrong in all that who was wrong before is not heard.
    let count = judged(&ward.store);
    let most = 50 + u64::try_from(OWNERS).unwrap();
    assert!((5..=most).contains(&count), "{count} of {GUESSES} guesses were judged");
    let tries = ward.store.view(|view| view.tries(Scope::Device, wanted.as_str())).unwrap().unwrap();
    assert_eq!(u64::from(tries.count), count);
    // Who has it right, but guessed before, has nothing of it; who did not guess has it.
    let (taken, _) = try_with(ward, (&wanted, &thieves[0]), its_code, None);
    assert_eq!(taken, Taken::No);
    claim(ward, (&wanted, its_code));
}

/// The same ward, as another process has it.
fn opened_again(ward: &Ward) -> Ward {
    tidy_warden_rig::ward::opened(&ward.dir)
}

/// The share of pairs of a sample of one and a sample of the other in which the first took longer (Mann and Whitney, 1947): one half if
/// nobody can tell them apart.
fn longer(one: &[Duration], other: &[Duration]) -> f64 {
    let mut wins = 0.0;
    for each in one {
        for against in other {
            wins += match each.cmp(against) {
                std::cmp::Ordering::Greater => 1.0,
                std::cmp::Ordering::Equal => 0.5,
                std::cmp::Ordering::Less => 0.0,
            };
        }
    }
    let pairs = f64::from(u32::try_from(one.len() * other.len()).unwrap());
    wins / pairs
}

#[test]
fn no_clock_tells_a_right_code_from_a_wrong_one_or_a_device_from_none() {
    const EACH: usize = 150;
    // With as many of each the share strays by 0.033 from one half (one standard deviation); what is told apart is far from it.
    const STRAYS: f64 = 0.2;
    let mut bench = Bench::new();
    let ids = bench.list(["open", "closed", "held"].map(str::to_owned).into_iter());
    let ward = &mut bench.ward;
    let codes = opened(ward, &[ids[0].clone(), ids[2].clone()]);
    let cause = ward.cause(None);
    ward.store.set_hold(&ids[2..], true, &cause).unwrap();
    ward.settings.claims.tries = 1_000_000;
    let owner = add_owner(ward, "brindle-pass");
    let locked = add_owner(ward, "thief");
    let (absent, wrong): (DeviceId, Code) = ("absent".parse().unwrap(), Code::new(&mut SystemRandom));
    // One that begins as the right code does.
    let near = loop {
        let near = Code::new(&mut SystemRandom);
        if near.grouped().as_bytes()[0] == codes[0].grouped().as_bytes()[0] {
            break near;
        }
    };
    let cases: [(&DeviceId, &Code); 5] =
        [(&ids[0], &wrong), (&ids[0], &near), (&ids[1], &wrong), (&ids[2], &codes[1]), (&absent, &wrong)];
    let mut told = Vec::new();
    for _ in 0..3 {
        let mut samples: [Vec<Duration>; 5] = Default::default();
        for _ in 0..EACH {
            for (case, (id, code)) in samples.iter_mut().zip(cases) {
                let (taken, took) = try_with(ward, (id, &owner), code, None);
                assert_eq!(taken, Taken::No);
                case.push(took);
            }
        }
        let shares: Vec<f64> = samples[1..].iter().map(|case| longer(case, &samples[0])).collect();
        // The measure can fail: who is not heard costs nothing, and that shows.
        ward.settings.claims.tries = 1;
        try_with(ward, (&ids[0], &locked), &wrong, None);
        let unheard: Vec<Duration> = (0..EACH).map(|_| try_with(ward, (&ids[0], &locked), &wrong, None).1).collect();
        ward.settings.claims.tries = 1_000_000;
        assert!(longer(&unheard, &samples[0]) < 0.05, "the measure tells nothing");
        if shares.iter().all(|share| (share - 0.5).abs() < STRAYS) {
            return;
        }
        told.push(shares);
    }
    panic!("a right code, a near one, a closed device and none at all, against a wrong code: {told:?}");
}
