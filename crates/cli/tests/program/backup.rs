//! Backups: made while others write, sealed, put back where they belong, and never unnoticed back in time.

use std::time::Duration;

use tidy_warden_rig::Cluster;
use tidy_warden_simulate::ConnectError;

use crate::database::world_in;
use crate::harness::{Guard, Ran, Running, World, block_on, eventually};

const SOON: Duration = Duration::from_secs(20);

impl World {
    /// Runs a command that needs the backup's passphrase.
    fn with_backup_passphrase(&self, args: &[&str]) -> Ran {
        self.secret("b.txt", "of the backup alone\n");
        self.run(&[args, &["--backup-passphrase-file", "b.txt"]].concat())
    }

    fn backup(&self, out: &str, more: &[&str]) -> Ran {
        self.with_backup_passphrase(&[&["store", "backup", "--out", out], more].concat())
    }

    fn restore(&self, file: &str, more: &[&str]) -> Ran {
        self.with_backup_passphrase(&[&["store", "restore", file], more].concat())
    }

    /// What people see of the fleet.
    fn fleet(&self) -> String {
        let devices = self.run(&["device", "list", "--format", "json"]).exits(0).stdout;
        devices + &self.run(&["credential", "list", "--all", "--format", "json"]).exits(0).stdout
    }

    fn entries(&self) -> i64 {
        self.run(&["store", "show", "--format", "json"]).exits(0).json()["entries"].as_i64().unwrap()
    }

    fn is_file(&self) -> bool {
        self.path("w/ward.db").exists()
    }
}

#[test]
fn a_backup_is_sealed_and_what_was_done_to_it_is_found() {
    let world = World::equipped();
    world.run(&["store", "backup", "--out", "a.backup"]).exits(2).says(&["--to-cert", "passphrase"]);
    world.secret("weak.txt", "weak\n");
    let weak = ["store", "backup", "--out", "a.backup", "--backup-passphrase-file", "weak.txt"];
    world.run(&weak).exits(3).says(&["too weak"]);
    assert!(!world.path("a.backup").exists());
    let made = world.backup("a.backup", &["--format", "json"]).exits(0).json();
    assert_eq!((made["entries"].as_i64(), made["whole"].as_bool()), (Some(world.entries()), Some(false)));
    world.backup("a.backup", &[]).exits(3).says(&["exists already"]);
    let octets = std::fs::read(world.path("a.backup")).unwrap();
    assert!(!octets.windows(4).any(|some| some == b"wv-1"), "nothing of the fleet stands in it");
    use std::os::unix::fs::PermissionsExt;
    assert_eq!(std::fs::metadata(world.path("a.backup")).unwrap().permissions().mode() & 0o777, 0o600);

    world.secret("wrong.txt", "not that passphrase\n");
    let wrong = ["store", "restore", "a.backup", "--yes", "--backup-passphrase-file", "wrong.txt"];
    world.run(&wrong).exits(1).says(&["the passphrase is wrong"]);
    world.run(&["store", "restore", "a.backup", "--yes"]).exits(2).says(&["--backup-passphrase-file"]);
    if !world.is_file() {
        return;
    }
    world.restore("a.backup", &[]).exits(2).says(&["--yes"]);
    world.restore("list.csv", &["--yes"]).exits(3).says(&["no backup of a ward"]);
    world.restore("nothing", &["--yes"]).exits(4).says(&["does not exist"]);
    let before = world.fleet();
    let line = octets.iter().enumerate().filter(|(_, octet)| **octet == b'\n').nth(1).unwrap().0;
    for at in [line - 100, line + 10, octets.len() / 2 + line / 2, octets.len() - 1] {
        let mut changed = octets.clone();
        changed[at] ^= 1;
        world.write("changed.backup", &changed);
        assert_ne!(world.restore("changed.backup", &["--yes"]).code, 0, "octet {at}");
        world.write("cut.backup", &octets[..at]);
        assert_ne!(world.restore("cut.backup", &["--yes"]).code, 0, "cut at {at}");
    }
    // Another word in the open part makes it another stream's.
    let text = String::from_utf8_lossy(&octets[..line]).replace("\"whole\":false", "\"whole\":true");
    world.write("lied.backup", [text.as_bytes(), &octets[line..]].concat());
    world.restore("lied.backup", &["--yes"]).exits(1).says(&["damaged or cut off"]);
    assert_eq!(world.fleet(), before, "none of it left a trace");
    assert!(!world.path("w/ward.db.before").exists());

    // To the key of a certificate, of a type with which that can be done.
    let openssl = |args: &str| drop(world.other("openssl", &args.split(' ').collect::<Vec<_>>()).exits(0));
    openssl(
        "req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-384 -nodes -keyout k.pem -out c.pem -subj /CN=backups -days 2",
    );
    openssl("req -x509 -newkey rsa:2048 -nodes -keyout r.pem -out rc.pem -subj /CN=backups -days 2");
    openssl(
        "req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-384 -nodes -keyout o.pem -out oc.pem -subj /CN=others -days 2",
    );
    let to = |certificate: &str, out: &str| world.run(&["store", "backup", "--out", out, "--to-cert", certificate]);
    to("rc.pem", "r.backup").exits(3).says(&["p256 or p384"]);
    to("c.pem", "c.backup").exits(0);
    let from = |key: &[&str]| world.run(&[&["store", "restore", "c.backup", "--yes"], key].concat());
    from(&[]).exits(2).says(&["--key FILE"]);
    from(&["--key", "o.pem"]).exits(1).says(&["another key"]);
    from(&["--key", "c.pem"]).exits(3).says(&["no private key"]);
    from(&["--key", "k.pem"]).exits(0);
    assert_eq!(world.fleet(), before);
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn a_fresh_machine_gets_the_whole_ward_back_and_its_guard_works() {
    let world = World::equipped();
    if !world.is_file() {
        return;
    }
    world.append("w/ward.toml", "\n[guard]\nsender_property = \"from\"\n");
    world.run(&["device", "list"]).exits(0);
    world.backup("whole.backup", &["--whole"]).exits(0).prints(&["settings, policies, locked keys"]);
    world.backup("part.backup", &[]).exits(0).says(&["--whole"]);
    let (before, entries) = (world.fleet(), world.entries());
    // The machine is gone.
    std::fs::rename(world.path("w"), world.path("gone")).unwrap();
    world.restore("part.backup", &["--yes"]).exits(3).says(&["settings, policies and keys", "--whole"]);
    assert!(!world.path("w/ward.toml").exists());
    world.restore("whole.backup", &["--yes"]).exits(0);
    assert_eq!((world.fleet(), world.entries()), (before, entries + 1));
    world.run(&["audit", "verify"]).exits(0);
    world.run(&["store", "check"]).exits(0).prints(&["nothing is wrong"]);
    world.run(&["audit", "log"]).exits(0).prints(&["store.restore"]);
    let settings = |folder: &str| std::fs::read(world.path(&format!("{folder}/ward.toml"))).unwrap();
    assert_eq!(settings("w"), settings("gone"));
    let guard = Guard::start(&world, "builtin");
    block_on(async {
        let mut vane = world.login("wv-1").connect(guard.address).await.unwrap();
        assert!(vane.publish("rope/ossel/wv-1/wind", b"1").await.unwrap().is_ok());
    });
    world.run(&["enroll", "wv-2", "--make-key", "--again", "--out", "more"]).exits(0);
}

#[test]
fn a_ward_is_put_back_from_one_engine_into_the_other() {
    let cluster = Cluster::shared();
    let (other, _) = world_in(cluster);
    other.equip();
    other.backup("database.backup", &["--whole"]).exits(0);
    let before = other.fleet();
    std::fs::rename(other.path("w"), other.path("gone")).unwrap();
    other.restore("database.backup", &["--yes", "--to", "file"]).exits(0);
    let text = std::fs::read_to_string(other.path("w/ward.toml")).unwrap();
    let url = text.lines().find(|line| line.starts_with("url = ")).unwrap().to_owned();
    other.write("w/ward.toml", text.replace(&url, ""));
    assert_eq!(other.fleet(), before);
    other.run(&["audit", "verify"]).exits(0);

    let world = World::equipped();
    if !world.is_file() {
        return;
    }
    world.backup("file.backup", &[]).exits(0);
    let (before, database) = (world.fleet(), cluster.database());
    let place = cluster.address(&database);
    world.restore("file.backup", &["--yes", "--to", &place]).exits(0).says(&["[store]"]);
    world.restore("file.backup", &["--yes", "--to", &place]).exits(3).says(&["there is a ward already"]);
    world.append("w/ward.toml", &format!("\n[store]\nurl = \"{place}\"\n"));
    assert_eq!(world.fleet(), before);
    world.run(&["device", "add", "wv-9", "--kind", "windvane"]).exits(0);
    world.run(&["store", "check"]).exits(0);
    world.run(&["audit", "verify"]).exits(0);
    cluster.sql(&database, "UPDATE credentials SET device = 99 WHERE pk = 1");
    world.run(&["store", "check"]).exits(3).prints(&["rows of `credentials` name something that is not there"]);
}

#[test]
fn a_backup_is_of_one_moment_while_others_write_and_a_killed_restore_leaves_what_was_there() {
    let world = World::init();
    let list: String = (0..3_000).map(|at| format!("wv-{at},windvane,ossel\n")).collect();
    world.write("fleet.csv", format!("id,kind,label.site\n{list}"));
    world.run(&["device", "import", "fleet.csv"]).exits(0);
    std::thread::scope(|scope| {
        let writer = scope.spawn(|| {
            for at in 0..20 {
                world.run(&["device", "edit", &format!("wv-{at}"), "--label", &format!("site=s{at}")]).exits(0);
            }
        });
        for at in 0..4 {
            let made = world.backup(&format!("{at}.backup"), &["--format", "json"]).exits(0).json();
            assert!(made["rows"].as_u64().unwrap() > 3_000);
        }
        writer.join().unwrap();
    });
    if !world.is_file() {
        return;
    }
    let (now, entries) = (world.fleet(), world.entries());
    // Killed while it writes, it leaves what was there.
    world.secret("b.txt", "of the backup alone\n");
    let call =
        ["store", "restore", "3.backup", "--anyway", "--because", "x", "--yes", "--backup-passphrase-file", "b.txt"];
    let mut running = Running::start(&mut world.program(&call));
    let began = eventually(|| (world.path("w/ward.db.restoring").exists() || running.has_ended()).then_some(()));
    assert!(began.is_some());
    running.signal("KILL");
    if running.wait() != Some(0) {
        assert_eq!((world.fleet(), world.entries()), (now.clone(), entries));
    }
    // Each backup is the ward as it was at its moment: its record leads to its rows.
    for at in 0..4 {
        world.restore(&format!("{at}.backup"), &["--anyway", "--because", "x", "--yes"]).exits(0);
        world.run(&["audit", "verify"]).exits(0);
        world.run(&["store", "check"]).exits(0);
        let listed = world.fleet();
        let edits = world.run(&["audit", "log"]).exits(0).stdout.matches("device.edit").count();
        assert_eq!(listed.matches("\"site\": \"s").count(), edits, "backup {at}");
    }
}

#[test]
fn what_goes_back_in_time_is_noticed_and_lets_nobody_in_until_a_person_says_so() {
    let world = World::equipped();
    if !world.is_file() {
        return;
    }
    world.append("w/ward.toml", "\n[guard]\nstore_patience = \"1h\"\n");
    world.run(&["crl", "--out", "first.pem"]).exits(0);
    world.backup("yesterday.backup", &[]).exits(0);
    world.run(&["revoke", "wv-1", "--reason", "keyCompromise", "--because", "lost", "--yes"]).exits(0);
    world.run(&["crl", "--out", "second.pem"]).exits(0);
    let guard = Guard::start(&world, "builtin");
    let enters = |guard: &Guard, id: &str| block_on(async { world.login(id).connect(guard.address).await.map(|_| ()) });
    assert!(enters(&guard, "wv-2").is_ok() && enters(&guard, "wv-1").is_err());
    // Whoever writes meanwhile would lose it, and so ends the attempt.
    world.has_first_uses(1);
    world.restore("yesterday.backup", &["--yes"]).exits(3).says(&["it goes back in time", "--anyway"]);
    let anyway = ["--yes", "--anyway", "--because", "the disk died"];
    world.restore("yesterday.backup", &anyway).exits(0).says(&["every owner is signed out", "store accept"]);
    let shut = |guard: &Guard, id: &str| {
        let refused = || matches!(enters(guard, id), Err(ConnectError::Refused { code: 0x88, .. })).then_some(());
        assert!(eventually(refused).is_some(), "{id}: {:?}", guard.running.lines());
    };
    shut(&guard, "wv-1");
    shut(&guard, "wv-2");
    guard.event("trouble", |event| event["what"].as_str().unwrap().contains("put back from a backup of entry"));
    // One that has never seen anything knows it too.
    drop(guard);
    // It may not have kept anything yet.
    let _ = std::fs::remove_file(world.path("w/guard.seen"));
    let guard = Guard::start(&world, "builtin");
    shut(&guard, "wv-1");
    shut(&guard, "wv-2");
    // What was done since is done again, and then a person says so.
    world.run(&["revoke", "wv-1", "--reason", "keyCompromise", "--because", "lost", "--yes"]).exits(0);
    world.run(&["store", "accept", "--because", "the disk died", "--yes"]).exits(0).says(&["in doubt"]);
    assert!(eventually(|| enters(&guard, "wv-2").is_ok().then_some(())).is_some());
    assert!(enters(&guard, "wv-1").is_err());
    // No list has a number that one had which was published.
    let number = |file: &str| {
        let text = world.other("openssl", &["crl", "-in", file, "-noout", "-crlnumber"]).exits(0).stdout;
        u64::from_str_radix(text.trim().trim_start_matches("crlNumber=").trim_start_matches("0x"), 16).unwrap()
    };
    world.run(&["crl", "--out", "third.pem"]).exits(0);
    assert!(number("third.pem") > number("second.pem") + 1_000, "{}", number("third.pem"));
    world.run(&["audit", "verify"]).exits(0);
    drop(guard);
    let guard = Guard::start(&world, "builtin");
    block_on(async {
        let mut vane = world.login("wv-2").connect(guard.address).await.unwrap();
        world.run(&["hold", "wv-2", "--yes"]).exits(0);
        assert!(vane.ended(SOON).await.is_some());
    });
    // Another ward's backup is not put back here.
    let other = World::equipped();
    other.backup("theirs.backup", &[]).exits(0);
    std::fs::copy(other.path("theirs.backup"), world.path("theirs.backup")).unwrap();
    world.restore("theirs.backup", &["--yes"]).exits(3).says(&["is another one"]);
    // A ward that was moved is not brought to life again where it was.
    let cluster = Cluster::shared();
    let place = cluster.address(&cluster.database());
    world.backup("last.backup", &[]).exits(0);
    drop(guard);
    world.run(&["store", "copy", "--to", &place, "--yes"]).exits(0);
    let anyway = ["--yes", "--anyway", "--because", "x"];
    world.restore("last.backup", &anyway).exits(3).says(&["it was moved to", "in two places"]);
}
