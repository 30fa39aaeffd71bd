//! A ward in a database against the same ward in a file, and against what the database itself can do, on the same cores in one run.
//!
//! `cargo bench --bench database [-- DEVICES] [bulk] [single] [fleet] [changes]`. It needs Debian's postgresql; the server is its own, with
//! everything as it is by default, `fsync` among it. Bounds and figures alternate; of several rounds the middle one is told with the
//! lowest and highest.

#![expect(clippy::unwrap_used, reason = "a benchmark fails by panicking")]

use std::fmt::Write as _;
use std::io::{BufRead, BufReader};
use std::net::SocketAddr;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use tidy_warden_core::database::DatabaseAddress;
use tidy_warden_core::device::DeviceEdit;
use tidy_warden_core::id::DeviceId;
use tidy_warden_core::time::UnixTime;
use tidy_warden_rig::Cluster;
use tidy_warden_simulate::Outfit;
use tidy_warden_store::{Cause, DatabaseAccess, OperatorStore, postgres};

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
fn single(dir: &Path, cluster: &Cluster) {
    let folder = dir.join("single");
    let database = ward(&folder, Some(cluster));
    std::fs::write(folder.join("fleet.csv"), list(1_000)).unwrap();
    run(&folder, &["device", "import", "fleet.csv"]);
    let other = cluster.database();
    cluster.sql(&other, "CREATE TABLE rows (n BIGSERIAL PRIMARY KEY, at BIGINT); GRANT ALL ON ALL TABLES IN SCHEMA public TO operator; GRANT ALL ON ALL SEQUENCES IN SCHEMA public TO operator");
    let access = || DatabaseAccess {
        address: DatabaseAddress::parse(&cluster.address(&database), false).unwrap(),
        password: None,
        roots: None,
        insecure: false,
        is_post: false,
    };
    let acts = |callers: usize| {
        let each = 400 / callers.min(8);
        let begun = Instant::now();
        std::thread::scope(|scope| {
            for caller in 0..callers {
                let access = access();
                scope.spawn(move || {
                    let mut store = OperatorStore::new(postgres::open(access, None).unwrap());
                    for at in 0..each {
                        let id: DeviceId = format!("wv-{:07}", (caller * 13 + at) % 1_000).parse().unwrap();
                        let site = Some(format!("n{at}").parse().unwrap());
                        let edit =
                            DeviceEdit { labels: vec![("pylon".parse().unwrap(), site)], ..DeviceEdit::default() };
                        let now = std::time::SystemTime::UNIX_EPOCH.elapsed().unwrap().as_secs();
                        let at = UnixTime(i64::try_from(now).unwrap());
                        let cause = Cause { at, actor: "bench".into(), because: String::new() };
                        store.edit_device(&id, &edit, &cause).unwrap().unwrap();
                    }
                });
            }
        });
        number(callers * each) / begun.elapsed().as_secs_f64()
    };
    for callers in [1, 50] {
        let commits = || cluster.commits(&other, "INSERT INTO rows (at) VALUES (1);\n", 1, 3);
        let figures: Vec<(f64, f64)> = (0..ROUNDS).map(|_| (acts(callers), commits())).collect();
        let (ratio, low, high) = middle(figures.iter().map(|(acts, commits)| acts / commits).collect());
        let (acts, commits) = figures[ROUNDS / 2];
        println!(
            "single, {callers:>2} at once {ratio:.2} [{low:.2}..{high:.2}]: {acts:.0} changes a second, {commits:.0} commits of one row by one client"
        );
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
