//! A ward in a database against the same ward in a file, and against what the database itself can do, on the same cores in one run.
//!
//! `cargo bench --bench database [-- DEVICES] [bulk] [single] [fleet] [changes]`. It needs Debian's postgresql; the server is its own, with
//! everything as it is by default, `fsync` among it. Bounds and figures alternate; of several rounds the middle one is told with the
//! lowest and highest.

#![expect(clippy::unwrap_used, reason = "a benchmark fails by panicking")]

use std::convert::Infallible;
use std::fmt::Write as _;
use std::io::{BufRead, BufReader};
use std::net::SocketAddr;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use tidy_warden_core::authority::AuthorityRole;
use tidy_warden_core::certificate::{Fingerprint, SerialNumber};
use tidy_warden_core::credential::Origin;
use tidy_warden_core::database::DatabaseAddress;
use tidy_warden_core::device::DeviceEdit;
use tidy_warden_core::id::{AuthorityName, DeviceId};
use tidy_warden_core::key::sha256;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_rig::Cluster;
use tidy_warden_simulate::Outfit;
use tidy_warden_store::{Cause, DatabaseAccess, Intended, NewCredential, Together, Tx, acts, postgres};

const ROUNDS: usize = 3;

/// Sessions at each guard when a change is to reach them.
const SESSIONS: usize = 3_000;

const POLICY: &str = "policy vanes {\n  for kind = windvane\n  allow connect as \"{device}\"\n  \
     allow publish \"rope/{site}/{device}/wind\" size <= 2KiB\n  allow subscribe \"rope/{site}/{device}/settings\"\n}\n";

fn main() {
    // Cargo itself gives `--bench`.
    let devices = std::env::args().filter_map(|word| word.parse().ok()).next().unwrap_or(100_000usize);
    let parts: Vec<String> = std::env::args().skip(1).filter(|word| word.chars().all(char::is_alphabetic)).collect();
    let wanted = |part: &str| parts.is_empty() || parts.iter().any(|each| each == part);
    let (dir, cluster) = (tempfile::tempdir().unwrap(), Cluster::durable());
    println!("{devices} devices; {}", cluster.sql("postgres", "SELECT version()").trim());
    if wanted("bulk") {
        bulk(dir.path(), &cluster, devices);
    }
    if wanted("single") {
        single(dir.path(), &cluster);
    }
    if wanted("fleet") {
        fleet(dir.path(), &cluster, devices);
    }
    if wanted("changes") {
        changes(dir.path(), &cluster);
    }
}

fn number(count: usize) -> f64 {
    f64::from(u32::try_from(count).unwrap())
}

/// The middle of some figures, with the lowest and highest.
fn middle(mut figures: Vec<f64>) -> (f64, f64, f64) {
    figures.sort_by(f64::total_cmp);
    (figures[figures.len() / 2], figures[0], figures[figures.len() - 1])
}

fn secret(path: &Path, text: &str) {
    use std::os::unix::fs::PermissionsExt;
    std::fs::write(path, text).unwrap();
    std::fs::set_permissions(path, std::fs::Permissions::from_mode(0o600)).unwrap();
}

/// A new ward in a file, or in a new database.
fn ward(folder: &Path, cluster: Option<&Cluster>) -> String {
    std::fs::create_dir_all(folder).unwrap();
    secret(&folder.join("passphrase.txt"), "a rope of several words\n");
    let database = cluster.map(|cluster| cluster.database()).unwrap_or_default();
    let mut call =
        vec!["init", "--name", "Quillfeather Ropeways", "--host", "localhost", "--enterprise-number", "32473"];
    let store = cluster.map(|cluster| cluster.address(&database)).unwrap_or_default();
    if cluster.is_some() {
        call.extend(["--store", &store]);
    }
    run(folder, &call);
    let settings = folder.join("ward.toml");
    let text = std::fs::read_to_string(&settings).unwrap();
    let more = "\n[kinds.windvane]\n\n[guard]\nsessions_per_source = 100000\n";
    std::fs::write(settings, text + more).unwrap();
    for policy in std::fs::read_dir(folder.join("policies")).unwrap() {
        std::fs::remove_file(policy.unwrap().path()).unwrap();
    }
    std::fs::write(folder.join("policies/all.policy"), POLICY).unwrap();
    database
}

fn command(folder: &Path, arguments: &[&str]) -> Command {
    let mut call = Command::new(env!("CARGO_BIN_EXE_tidy-warden"));
    call.current_dir(folder).args(arguments).env("TIDY_WARDEN_PASSPHRASE_FILE", "passphrase.txt");
    call
}

fn run(folder: &Path, arguments: &[&str]) {
    let output =
        command(folder, arguments).arg("--quiet").stdout(Stdio::null()).stderr(Stdio::piped()).output().unwrap();
    assert!(output.status.success(), "{arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
}

fn list(devices: usize) -> String {
    let mut list = "id,kind,label.site,fact.serial\n".to_owned();
    for at in 0..devices {
        writeln!(list, "wv-{at:07},windvane,s{},QF-{at:07}", at % 100).unwrap();
    }
    list
}

/// How long a call takes.
fn timed(folder: &Path, arguments: &[&str]) -> f64 {
    let begun = Instant::now();
    run(folder, arguments);
    begun.elapsed().as_secs_f64()
}

/// Times one call in both places in several rounds, and tells the database's speed by the file's.
fn compare(name: &str, rounds: usize, call: impl Fn(usize, bool) -> f64) {
    let figures: Vec<(f64, f64)> = (0..rounds).map(|round| (call(round, false), call(round, true))).collect();
    let (ratio, low, high) = middle(figures.iter().map(|(file, database)| file / database).collect());
    let (file, database) = figures[rounds / 2];
    println!(
        "{name:<14} {ratio:.2} of the file's speed [{low:.2}..{high:.2}]: {database:.2} s in the database, {file:.2} s in the file"
    );
}

fn bulk(dir: &Path, cluster: &Cluster, devices: usize) {
    let list = list(devices);
    compare("bulk", ROUNDS, |round, in_database| {
        let folder = dir.join(format!("bulk-{round}-{in_database}"));
        ward(&folder, in_database.then_some(cluster));
        std::fs::write(folder.join("fleet.csv"), &list).unwrap();
        let took = timed(&folder, &["enroll", "--from", "fleet.csv", "--pack", "fleet.tar.zst", "--yes"]);
        std::fs::remove_dir_all(folder).unwrap();
        took
    });
}

/// Acts that are one change each, against commits of one row.
/// What a caller does once: one change of one device, or one enrolment, which is two changes: what is about to be signed is
/// noted before it is.
type Deed = fn(&Shared, usize);

/// A ward's store that callers change together, and what they need of the ward.
struct Shared {
    changes: Together,
    authority: AuthorityName,
    /// How many devices were enrolled: each of them once.
    enrolled: AtomicUsize,
}

/// How many devices are changed again and again; those behind them are enrolled.
const CHANGED: usize = 1_000;

fn cause() -> Cause {
    let now = std::time::SystemTime::UNIX_EPOCH.elapsed().unwrap().as_secs();
    Cause { at: UnixTime(i64::try_from(now).unwrap()), actor: "bench".into(), because: String::new() }
}

fn device(number: usize) -> DeviceId {
    format!("wv-{number:07}").parse().unwrap()
}

fn edit(ward: &Shared, turn: usize) {
    let value = Some(format!("n{turn}").parse().unwrap());
    let change = DeviceEdit { labels: vec![("pylon".parse().unwrap(), value)], ..DeviceEdit::default() };
    let id = device(turn % CHANGED);
    ward.changes.decide(move |tx| acts::device::edit(tx, &id, &change, &cause())).unwrap().unwrap();
}

/// What the store does for an enrolment; nothing is signed.
fn enrol(ward: &Shared, _: usize) {
    let number = CHANGED + ward.enrolled.fetch_add(1, Ordering::Relaxed);
    let (id, name) = (device(number), sha256(&number.to_be_bytes()));
    let serial = SerialNumber::from_octets(&[&[1], &name[..15]].concat()).unwrap();
    let authority = ward.authority.clone();
    let until = cause().at.plus(Span::from_days(90));
    let note = Intended { serial, authority, device: id, not_after: until, place: None };
    let noted = note.clone();
    let intend = move |tx: &mut dyn Tx| Ok(Ok::<(), Infallible>(acts::enrol::intend(tx, &noted, &cause())?));
    let Ok(()) = ward.changes.decide(intend).unwrap();
    let noted = note;
    let record = move |tx: &mut dyn Tx| {
        let new = NewCredential {
            device: &noted.device,
            origin: Origin::Issued,
            authority: Some(&noted.authority),
            der: &[7; 600],
            fingerprint: Fingerprint(name),
            serial: Some(&noted.serial),
            key_digest: sha256(&name),
            key_type: "p256",
            not_before: cause().at,
            not_after: until,
            again: false,
            overlap: Span::from_seconds(0),
            fresh_key: false,
            authorised_by: None,
            kid: None,
            note: None,
        };
        // What is handed over within the change needs no change of its own for the end of the note.
        acts::enrol::end_intended(tx, std::slice::from_ref(&noted), false, &cause())?;
        acts::enrol::record(tx, &new, &cause())
    };
    ward.changes.decide(record).unwrap().unwrap();
}

/// How often callers do a deed in a second, all at the same time.
fn deeds(ward: &Shared, callers: usize, deed: Deed) -> f64 {
    let begun = Instant::now();
    let ends = begun + Duration::from_secs(3);
    let done: usize = std::thread::scope(|scope| {
        let work = |caller: usize| {
            move || {
                let mut turn = 0;
                while Instant::now() < ends {
                    deed(ward, caller * 20 + turn);
                    turn += 1;
                }
                turn
            }
        };
        let callers: Vec<_> = (0..callers).map(|caller| scope.spawn(work(caller))).collect();
        callers.into_iter().map(|caller| caller.join().unwrap()).sum()
    });
    number(done) / begun.elapsed().as_secs_f64()
}

/// Changes of one device each, against commits of one row by one client: on this machine's disk, and where writing takes a
/// millisecond more, as it does on a disk that keeps what it acknowledges.
fn single(dir: &Path, cluster: &Cluster) {
    let folder = dir.join("single");
    let database = ward(&folder, Some(cluster));
    std::fs::write(folder.join("fleet.csv"), list(CHANGED + 60_000)).unwrap();
    run(&folder, &["device", "import", "fleet.csv"]);
    let other = cluster.database();
    cluster.sql(&other, "CREATE TABLE rows (n BIGSERIAL PRIMARY KEY, at BIGINT); GRANT ALL ON ALL TABLES IN SCHEMA public TO operator; GRANT ALL ON ALL SEQUENCES IN SCHEMA public TO operator");
    let access = DatabaseAccess {
        address: DatabaseAddress::parse(&cluster.address(&database), false).unwrap(),
        password: None,
        roots: None,
        insecure: false,
        is_post: false,
    };
    let store = postgres::open(access, None).unwrap();
    let authorities = store.authorities().unwrap();
    let devices = authorities.iter().find(|authority| authority.role == AuthorityRole::Devices).unwrap();
    let ward = Shared {
        authority: devices.name.clone(),
        changes: Together::new(store).unwrap(),
        enrolled: AtomicUsize::new(0),
    };
    let deed_names: [(&str, Deed); 2] = [("changes", edit), ("enrolments", enrol)];
    for (disk, delay) in [("this disk", 0), ("a disk of 1 ms", 1000), ("", 0)] {
        for setting in [&format!("commit_delay = {delay}"), "commit_siblings = 0"] {
            cluster.sql("postgres", &format!("ALTER SYSTEM SET {setting}"));
        }
        cluster.sql("postgres", "SELECT pg_reload_conf()");
        if disk.is_empty() {
            return;
        }
        for (what, deed) in deed_names {
            for callers in [1, 50] {
                let commits = || cluster.commits(&other, "INSERT INTO rows (at) VALUES (1);\n", 1, 3);
                let mut figures: Vec<(f64, f64)> =
                    (0..ROUNDS).map(|_| (deeds(&ward, callers, deed), commits())).collect();
                figures.sort_by(|one, other| (one.0 / one.1).total_cmp(&(other.0 / other.1)));
                let (ratio, low, high) = middle(figures.iter().map(|(deeds, commits)| deeds / commits).collect());
                let (deeds, commits) = figures[ROUNDS / 2];
                println!(
                    "{what:<10} {callers:>2} at once, {disk:<14} {ratio:.2} [{low:.2}..{high:.2}]: {deeds:.0} a second, {commits:.0} commits of one row by one client"
                );
            }
        }
    }
}

/// Questions over the whole fleet.
fn fleet(dir: &Path, cluster: &Cluster, devices: usize) {
    let folders = [false, true].map(|in_database| {
        let folder = dir.join(format!("fleet-{in_database}"));
        ward(&folder, in_database.then_some(cluster));
        std::fs::write(folder.join("fleet.csv"), list(devices)).unwrap();
        run(&folder, &["device", "import", "fleet.csv"]);
        folder
    });
    let of = |in_database: bool| &folders[usize::from(in_database)];
    compare("policy check", ROUNDS, |_, in_database| timed(of(in_database), &["policy", "check"]));
    compare("policy reach", ROUNDS, |_, in_database| {
        timed(of(in_database), &["policy", "reach", "--draft", "rope/s7/+/wind"])
    });
}

/// Ends a process when it is dropped.
struct Running(Child);

impl Drop for Running {
    fn drop(&mut self) {
        // It may have ended by itself.
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn guard(folder: &Path, post: &str) -> (Running, SocketAddr) {
    let mut call =
        command(folder, &["guard", "--post", post, "--listen", "127.0.0.1:0", "--broker", "builtin", "--log", "json"]);
    let mut child = call.env("TIDY_WARDEN_POST_PASSPHRASE_FILE", "post.txt").stderr(Stdio::piped()).spawn().unwrap();
    let mut lines = BufReader::new(child.stderr.take().unwrap()).lines();
    let address = loop {
        let line = lines.next().expect("the guard ended").unwrap();
        let event: serde_json::Value = serde_json::from_str(&line).unwrap_or_else(|_| panic!("{line}"));
        if event["event"] == "listening" {
            break event["address"].as_str().unwrap().parse().unwrap();
        }
    };
    std::thread::spawn(move || lines.for_each(drop));
    (Running(child), address)
}

/// How fast a hold reaches sessions at three guards.
fn changes(dir: &Path, cluster: &Cluster) {
    let folder = dir.join("changes");
    let database = ward(&folder, Some(cluster));
    secret(&folder.join("post.txt"), "of the posts alone\n");
    std::fs::write(folder.join("fleet.csv"), list(3 * SESSIONS)).unwrap();
    run(&folder, &["policy", "adopt", "--yes", "--because", "bench"]);
    run(&folder, &["enroll", "--from", "fleet.csv", "--out", "outfits", "--yes"]);
    let names = ["guard-1", "guard-2", "guard-3"];
    for name in names {
        let add = [
            "post",
            "add",
            name,
            "--role",
            "guard",
            "--host",
            "localhost",
            "--out",
            name,
            "--post-passphrase-file",
            "post.txt",
        ];
        run(&folder, &add);
    }
    run(&folder, &["store", "roles", "--out", "roles.sql"]);
    cluster.sql(&database, &std::fs::read_to_string(folder.join("roles.sql")).unwrap());
    let guards = names.map(|name| guard(&folder, name));
    let runtime = tokio::runtime::Runtime::new().unwrap();
    let begun = Instant::now();
    let mut sessions = Vec::new();
    for at in 0..3 * SESSIONS {
        let outfit = Outfit::read(&folder.join(format!("outfits/wv-{at:07}"))).unwrap();
        let mut login = outfit.login().unwrap();
        login.keep_alive = 3_600;
        sessions.push(Some(runtime.block_on(login.connect(guards[at % 3].1)).unwrap()));
    }
    println!(
        "{} sessions at three guards, opened one by one in {:.1} s",
        sessions.len(),
        begun.elapsed().as_secs_f64()
    );
    let mut waited = Vec::new();
    for at in (0..sessions.len()).step_by(sessions.len() / 201) {
        let mut session = sessions[at].take().unwrap();
        let id = format!("wv-{at:07}");
        let mut child = command(&folder, &["hold", &id, "--yes", "--quiet"])
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        assert!(child.wait().unwrap().success());
        // From when whoever did it is told that it is done.
        let done = Instant::now();
        assert!(runtime.block_on(session.ended(Duration::from_secs(30))).is_some());
        waited.push(done.elapsed().as_secs_f64() * 1_000.0);
    }
    waited.sort_by(f64::total_cmp);
    let at = |part: usize| waited[(waited.len() - 1) * part / 100];
    println!(
        "a hold reaches its session {:.0} ms (median), {:.0} ms (99th percentile) after it was told as done",
        at(50),
        at(99)
    );
}
