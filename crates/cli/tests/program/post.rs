//! Posts: guards on machines that have a folder of their own, and nothing else of the ward.

use std::path::Path;
use std::time::{Duration, Instant};

use tidy_warden_rig::{Cluster, Wire};
use tidy_warden_simulate::{ConnectError, Login};

use crate::database::world_in;
use crate::harness::{Guard, Mosquitto, World, block_on, eventually};

const SOON: Duration = Duration::from_secs(20);

impl World {
    /// Adds a guard's post, whose folder has its name, and gives it its role.
    fn post(&self, database: &str, name: &str) {
        let file = ["--post-passphrase-file", "post.txt"];
        self.secret("post.txt", "of this post alone\n");
        self.run(
            &[&["post", "add", name, "--role", "guard", "--host", "localhost", "--out", name], &file[..]].concat(),
        )
        .exits(0);
        self.give_roles(database);
    }

    /// What an administrator does with the roles that the ward writes.
    fn give_roles(&self, database: &str) {
        self.run(&["store", "roles", "--out", "roles.sql"]).exits(0);
        let sql = std::fs::read_to_string(self.path("roles.sql")).unwrap();
        Cluster::shared().sql(database, &sql);
    }

    /// The call that runs a post's guard, with nothing of the ward's in its environment but a folder that is none.
    fn post_command(&self, name: &str, broker: &str) -> std::process::Command {
        let mut command = self.command(env!("CARGO_BIN_EXE_tidy-warden"));
        command.env("TIDY_WARDEN_WARD", "nowhere").env("TIDY_WARDEN_PASSPHRASE_FILE", "pass.txt").env("USER", "ada");
        command.args(["guard", "--post", name, "--post-passphrase-file", "post.txt", "--listen", "127.0.0.1:0"]);
        command.args(["--broker", broker]);
        command
    }

    fn post_guard(&self, name: &str, broker: &str) -> Guard {
        Guard::of(&mut self.post_command(name, broker))
    }

    /// Lets a post reach its database by a way of its own.
    fn by_wire(&self, name: &str) -> Wire {
        let (path, folder) = (self.path(&format!("{name}/post.toml")), Cluster::shared().folder());
        let wire = Wire::to(folder);
        let text = std::fs::read_to_string(&path).unwrap();
        let (old, new) = (folder.display().to_string(), wire.folder().display().to_string());
        assert!(text.contains(&old));
        std::fs::write(path, text.replace(&old, &new)).unwrap();
        wire
    }
}

fn equipped() -> (World, String) {
    let (world, database) = world_in(Cluster::shared());
    world.equip();
    (world, database)
}

/// The names of all files below a folder.
fn files(folder: &Path) -> Vec<String> {
    let mut all = Vec::new();
    for entry in std::fs::read_dir(folder).unwrap().flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        match entry.path().is_dir() {
            true => all.extend(files(&entry.path()).iter().map(|below| format!("{name}/{below}"))),
            false => all.push(name),
        }
    }
    all.sort();
    all
}

#[test]
fn guards_at_posts_open_shared_keys_until_they_are_retired_and_their_passphrases_change() {
    let (world, database) = equipped();
    let settings = std::fs::read_to_string(world.path("w/ward.toml")).unwrap();
    world.write("w/ward.toml", settings.replace("[kinds.windvane]\n", "[kinds.windvane]\nshared_keys = true\n"));
    world.run(&["settings", "adopt", "--yes", "--because", "shared keys"]).exits(0);
    // One that is there before the first shared key, and one that comes after it.
    world.post(&database, "guard-2");
    let key = world.run(&["key", "add", "wv-1", "--shared", "--out", "wv-1.jwk", "--format", "json"]).exits(0).json();
    let kid = key["kid"].as_str().unwrap().to_owned();
    world.post(&database, "guard-3");
    let (second, third) = (world.post_guard("guard-2", "builtin"), world.post_guard("guard-3", "builtin"));
    let attempt = |guard: &Guard| {
        let token = world.run(&["token", "issue", "wv-1", "--key", &kid]).exits(0).stdout.trim_end().to_owned();
        let mut login = Login::new(&world.root("wv-1"), None, "localhost", "wv-1:a").unwrap();
        login.token = Some(("wv-1".to_owned(), token.into_bytes()));
        block_on(login.connect(guard.address)).map(|_| ())
    };
    for guard in [&second, &third] {
        attempt(guard).unwrap();
    }
    world.run(&["post", "retire", "guard-3", "--yes", "--because", "stolen"]).exits(0);
    let wraps = Cluster::shared().sql(&database, "SELECT string_agg(name, ' ' ORDER BY name) FROM key_wraps");
    assert_eq!(wraps.trim(), "guard guard-2 shared");
    drop((second, third));
    // Its passphrase changes where it is, without the ward.
    world.secret("new.txt", "another rope way of feathers\n");
    let change = |dir: &str, old: &str| {
        let call = ["passphrase", "change", "--post", dir, "--post-passphrase-file", old];
        let mut command = world.command(env!("CARGO_BIN_EXE_tidy-warden"));
        let done = command.args(call).args(["--new-passphrase-file", "new.txt", "--yes"]).output().unwrap();
        (done.status.code(), String::from_utf8_lossy(&done.stderr).into_owned())
    };
    assert_eq!(change("w", "post.txt").0, Some(3));
    assert_eq!(change("guard-2", "pass.txt").0, Some(1));
    let (code, said) = change("guard-2", "post.txt");
    assert!(code == Some(0) && said.contains("audit record does not tell"), "{said}");
    assert_eq!(change("guard-2", "post.txt").0, Some(1));
    std::fs::rename(world.path("new.txt"), world.path("post.txt")).unwrap();
    attempt(&world.post_guard("guard-2", "builtin")).unwrap();
}

#[test]
fn a_guard_at_a_post_has_all_that_it_needs_and_nothing_else_of_the_ward() {
    let (world, database) = equipped();
    let add = |name: &str, more: &[&str]| {
        world.run(&[&["post", "add", name, "--role", "guard", "--host", "localhost", "--out", name], more].concat())
    };
    add("guard-2", &[]).exits(2).says(&["--post-passphrase-file"]);
    add("guard-2", &["--post-passphrase-file", "pass.txt"]).exits(3).says(&["ward's passphrase"]);
    world.secret("weak.txt", "weak\n");
    add("guard-2", &["--post-passphrase-file", "weak.txt"]).exits(3).says(&["too weak"]);
    world.secret("post.txt", "of this post alone\n");
    let file = ["--post-passphrase-file", "post.txt"];
    add("guard", &file).exits(3).says(&["ward's own folder"]);
    add(&"g".repeat(64), &file).exits(3).says(&["63 characters"]);
    assert!(!world.path("guard-2").exists());
    world.post(&database, "guard-2");
    add("guard-2", &file).exits(3).says(&["exists already"]);
    std::fs::rename(world.path("guard-2"), world.path("elsewhere")).unwrap();
    add("guard-2", &file).exits(3).says(&["there is a post `guard-2` already"]);
    assert!(!world.path("guard-2").exists(), "nothing is left of what was refused");
    std::fs::rename(world.path("elsewhere"), world.path("guard-2")).unwrap();
    assert_eq!(files(&world.path("guard-2")), ["keys/guard.key", "post.pem", "post.toml", "store.pw"]);
    let secret = std::fs::read_to_string(world.path("guard-2/store.pw")).unwrap();
    let roles = std::fs::read_to_string(world.path("roles.sql")).unwrap();
    assert!(secret.len() > 40 && !roles.contains(&secret), "the password is in the post's folder alone");
    assert_eq!(listed(&world, "guard-2")["state"], "never seen");

    // It opens with its own passphrase, and with no other; it has nothing to do with a ward's folder.
    let mut wrong = world.post_command("guard-2", "builtin");
    let ran = wrong.args(["--ward", "w"]).output().unwrap();
    assert!(ran.status.code() == Some(2) && String::from_utf8_lossy(&ran.stderr).contains("leave --ward away"));
    let opened_with = |file: &str| {
        let mut command = world.command(env!("CARGO_BIN_EXE_tidy-warden"));
        let ran = command
            .args(["guard", "--post", "guard-2", "--post-passphrase-file", file, "--broker", "builtin"])
            .output();
        String::from_utf8_lossy(&ran.unwrap().stderr).into_owned()
    };
    assert!(opened_with("pass.txt").contains("the passphrase is wrong"));
    let mut none = world.command(env!("CARGO_BIN_EXE_tidy-warden"));
    let ran = none
        .env("TIDY_WARDEN_PASSPHRASE_FILE", "post.txt")
        .args(["guard", "--post", "guard-2"])
        .args(["--broker", "builtin"]);
    assert!(String::from_utf8_lossy(&ran.output().unwrap().stderr).contains("TIDY_WARDEN_POST_PASSPHRASE_FILE"));

    // It works, and says who it is.
    let guard = world.post_guard("guard-2", "builtin");
    block_on(async {
        let mut live = world.login("wv-1").connect(guard.address).await.unwrap();
        assert!(live.publish("rope/ossel/wv-1/wind", b"1").await.unwrap().is_ok());
        world.run(&["hold", "wv-1", "--yes"]).exits(0);
        assert!(live.ended(SOON).await.is_some_and(|how| how.contains("on hold")));
    });
    let used = eventually(|| {
        let log = world.run(&["audit", "log", "--format", "json"]).json();
        let entries = log["entries"].as_array()?.clone();
        entries.into_iter().find(|entry| entry["act"] == "credential.first-use")
    });
    assert_eq!(used.unwrap()["actor"], "post guard-2");
    let shown = || listed(&world, "guard-2");
    let up = eventually(|| (shown()["state"] == "up" && shown()["behind"] == 0).then(shown)).unwrap();
    assert_eq!((&up["role"], &up["edition"]), (&"guard".into(), &1.into()));
    assert_eq!(up["address"], guard.address.to_string());
    for field in ["change", "sessions", "seen", "since", "version"] {
        assert!(!up[field].is_null(), "{field}: {up}");
    }
    world.run(&["post", "list"]).exits(0).prints(&["guard-2", "up"]);
    world.run(&["store", "show"]).exits(0).prints(&["guard-2      has seen every change"]);
    world.run(&["audit", "verify"]).exits(0);

    // It shows the next certificate as soon as it has it, and nobody at its machine does anything.
    let before = shown()["ends"].clone();
    world.run(&["post", "renew", "guard-2"]).exits(0).prints(&["gave guard-2 its next certificate"]);
    let told = guard.event("own-certificate", |_| true);
    assert_eq!(told["ends"], shown()["ends"]);
    assert!(told["ends"].as_str() >= before.as_str());

    // Retired, it is out at once, and nobody comes in through it.
    world.run(&["post", "retire", "guard-9", "--yes", "--because", "x"]).exits(4);
    world
        .run(&["post", "retire", "guard-2", "--yes", "--because", "given back"])
        .exits(0)
        .says(&["crl --authority service"]);
    world.run(&["post", "retire", "guard-2", "--yes", "--because", "x"]).exits(3).says(&["retired already"]);
    world.give_roles(&database);
    block_on(async {
        let refused =
            async || matches!(world.login("wv-2").connect(guard.address).await, Err(ConnectError::Refused { .. }));
        let began = Instant::now();
        while !refused().await {
            assert!(began.elapsed() < SOON);
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
    });
    assert_eq!(shown()["state"], "retired");
    world.run(&["crl", "--authority", "service", "--out", "service.pem"]).exits(0);
    let crl = world.other("openssl", &["crl", "-in", "service.pem", "-noout", "-text"]).exits(0).stdout;
    let serials = listed_serials(&world);
    assert_eq!(serials.len(), 2, "that of before has the same key");
    assert!(serials.iter().all(|serial| crl.contains(&serial.to_uppercase())), "{crl}");
    assert!(crl.contains("Cessation Of Operation"), "{crl}");
    let again = world.post_command("guard-2", "builtin").output().unwrap();
    assert_eq!(again.status.code(), Some(1), "it cannot even read");
    world.run(&["audit", "verify"]).exits(0);
}

/// A post as `post list` has it.
fn listed(world: &World, name: &str) -> serde_json::Value {
    let all = world.run(&["post", "list", "--format", "json"]).exits(0).json()["posts"].clone();
    all.as_array().unwrap().iter().find(|post| post["name"] == name).unwrap().clone()
}

fn listed_serials(world: &World) -> Vec<String> {
    let log = world.run(&["audit", "log", "--format", "json", "--subject", "guard-2"]).json();
    let entries = log["entries"].as_array().unwrap().clone();
    let given = entries.iter().filter(|entry| ["post.add", "server.renew"].contains(&entry["act"].as_str().unwrap()));
    given.map(|entry| entry["detail"]["serial"].as_str().unwrap().to_owned()).collect()
}

#[test]
fn settings_reach_posts_when_they_are_adopted_and_signed_and_not_before() {
    let (world, database) = equipped();
    world.post(&database, "guard-2");
    let guard = world.post_guard("guard-2", "builtin");
    world.run(&["device", "list"]).exits(0);
    let text = std::fs::read_to_string(world.path("w/ward.toml")).unwrap();
    world.write("w/ward.toml", text.replace("token_login = true", "token_login = false"));
    // What the file says counts when it is adopted.
    world.run(&["device", "list"]).exits(0).says(&["warning", "settings adopt"]);
    world.run(&["token", "issue", "wv-1", "--for", "1h"]).exits(0);
    world.run(&["settings", "check"]).exits(0).says(&["settings adopt"]);
    world.run(&["settings", "adopt"]).exits(2).says(&["- token_login = true", "+ token_login = false", "--yes"]);
    world.run(&["settings", "adopt", "--yes", "--because", "no tokens"]).exits(0).says(&["edition 2"]);
    guard.event("reloaded", |_| true);
    assert!(!world.run(&["device", "list"]).exits(0).stderr.contains("settings adopt"));
    world.run(&["settings", "adopt", "--yes"]).exits(0).says(&["nothing to adopt"]);
    world.run(&["audit", "log"]).exits(0).prints(&["settings.adopt", "no tokens"]);
    world.run(&["audit", "verify"]).exits(0);
    // One with mistakes is not adopted.
    world.append("w/ward.toml", "\n[guard]\nlissen = \"x\"\n");
    world.run(&["settings", "adopt", "--yes"]).exits(3).says(&["lissen"]);
    let text = std::fs::read_to_string(world.path("w/ward.toml")).unwrap();
    world.write("w/ward.toml", text.replace("\n[guard]\nlissen = \"x\"\n", ""));

    // Who writes rows, but has no key, writes in vain.
    let cluster = Cluster::shared();
    let forged = "INSERT INTO adopted_settings SELECT number + 1, replace(text, 'token_login = false', 'token_login = true'), signature,
        author, at FROM adopted_settings WHERE number = 2";
    cluster.sql(&database, forged);
    let told = guard.event("trouble", |event| event["what"].as_str().unwrap().contains("not signed"));
    assert!(told["what"].as_str().unwrap().contains("the old ones stay"), "{told}");
    let start = || {
        let output = world.post_command("guard-2", "builtin").output().unwrap();
        assert_eq!(output.status.code(), Some(3));
        String::from_utf8_lossy(&output.stderr).into_owned()
    };
    assert!(start().contains("is not signed with the key"));
    world.run(&["settings", "adopt", "--yes"]).exits(3).says(&["another key"]);
    world
        .run(&["audit", "verify"])
        .exits(3)
        .prints(&["settings: the adopted ones are not those that the record notes"]);
    for (tamper, mend, told) in [
        ("UPDATE posts SET retired = 1", "UPDATE posts SET retired = NULL", "post `guard-2`: it is retired here"),
        (
            "UPDATE posts SET name = 'x'",
            "UPDATE posts SET name = 'guard-2'",
            "post `guard-2`: it stands in the record, and is gone",
        ),
    ] {
        cluster.sql(&database, tamper);
        world.run(&["audit", "verify"]).exits(3).prints(&[told]);
        cluster.sql(&database, mend);
    }
    // Nor is what was put back taken.
    cluster.sql(&database, "DELETE FROM adopted_settings WHERE number >= 2");
    assert!(start().contains("went by edition 2 before"));
    world.run(&["settings", "adopt", "--yes", "--because", "again"]).exits(0).says(&["edition 2"]);
    drop(guard);
    let guard = world.post_guard("guard-2", "builtin");
    guard.event("listening", |_| true);

    // What is the ward's stands in the ward's settings alone.
    world.append("guard-2/post.toml", "\n[guard]\nstore_patience = \"1h\"\n");
    assert!(start().contains("`store_patience` is a setting of the whole ward"));
}

#[test]
fn a_ward_in_a_file_has_no_posts_and_a_post_of_another_ward_is_refused() {
    let world = World::init();
    if crate::harness::in_databases() {
        return;
    }
    world.secret("post.txt", "of this post alone\n");
    let add = [
        "post",
        "add",
        "guard-2",
        "--role",
        "guard",
        "--host",
        "localhost",
        "--out",
        "p",
        "--post-passphrase-file",
        "post.txt",
    ];
    world.run(&add).exits(3).says(&["in a file", "store copy --to"]);
    world.run(&["store", "roles", "--out", "r.sql"]).exits(3).says(&["a file has no roles"]);
    world.run(&["settings", "adopt", "--yes"]).exits(0).says(&["nothing to adopt"]);
    world.run(&["post", "list"]).exits(0).prints(&["guard  guard  never seen"]);
    world.equip();
    let guard = Guard::start(&world, "builtin");
    let own = eventually(|| world.run(&["post", "list"]).stdout.contains("guard  guard  up").then_some(()));
    assert!(own.is_some(), "the guard in the ward's folder says how it is, too");
    drop(guard);
    world.run(&["guard", "--post", "p", "--broker", "builtin"]).exits(4).says(&["there is no post in p"]);

    let ((one, first), (two, _)) = (equipped(), equipped());
    one.post(&first, "guard-2");
    two.secret("post.txt", "of this post alone\n");
    two.run(&add).exits(0);
    let (ours, theirs) = (one.path("guard-2/post.toml"), two.path("p/post.toml"));
    let (text, other) = (std::fs::read_to_string(&ours).unwrap(), std::fs::read_to_string(theirs).unwrap());
    let line = |text: &str, key: &str| text.lines().find(|line| line.starts_with(key)).unwrap().to_owned();
    std::fs::write(&ours, text.replace(&line(&text, "ward ="), &line(&other, "ward ="))).unwrap();
    let output = one.post_command("guard-2", "builtin").output().unwrap();
    assert!(String::from_utf8_lossy(&output.stderr).contains("holds another ward"));
}

#[test]
fn three_guards_one_slow_one_cut_off_keep_out_whom_a_person_revokes() {
    const FLEET: usize = 200;
    let (world, database) = equipped();
    let list: String = (0..FLEET).map(|at| format!("fv-{at},windvane,ossel\n")).collect();
    world.write("fleet.csv", format!("id,kind,label.site\n{list}"));
    world.run(&["device", "import", "fleet.csv"]).exits(0);
    world.run(&["enroll", "--from", "fleet.csv", "--out", "outfits", "--yes"]).exits(0);
    world.append("w/ward.toml", "\n[guard]\nstore_patience = \"4s\"\n");
    let names = ["guard-1", "guard-2", "guard-3"];
    names.iter().for_each(|name| world.post(&database, name));
    let wires = names.map(|name| world.by_wire(name));
    wires[1].slow(Duration::from_millis(10));
    let guards = names.map(|name| world.post_guard(name, "builtin"));
    let order: Vec<usize> = (0..FLEET).map(|at| at * 77 % FLEET).collect();
    block_on(async {
        let mut live = Vec::new();
        for at in 0..FLEET {
            let mut login = world.login(&format!("fv-{at}"));
            login.keep_alive = 3600;
            live.push(login.connect(guards[at % 3].address).await.unwrap());
        }
        let mut live: Vec<_> = live.into_iter().map(Some).collect();
        for (turn, some) in order.chunks(20).enumerate() {
            if turn == 5 {
                wires[2].cut();
            }
            let ids: Vec<String> = some.iter().map(|at| format!("fv-{at}")).collect();
            let condition = format!("id in ({})", ids.join(", "));
            let count = some.len().to_string();
            world
                .run(&[
                    "revoke",
                    "--where",
                    &condition,
                    "--count",
                    &count,
                    "--reason",
                    "keyCompromise",
                    "--because",
                    "lost",
                ])
                .exits(0);
            for at in some {
                let mut device = live[*at].take().unwrap();
                // Told at once where the store is heard, and after the patience where it is not.
                let how = device.ended(SOON).await;
                let cut_off = turn >= 5 && at % 3 == 2;
                let why = if cut_off { "could not be asked" } else { "was revoked at" };
                assert!(how.as_ref().is_some_and(|how| how.contains(why)), "{turn} {at}: {how:?}");
                let again = world.login(&format!("fv-{at}")).connect(guards[at % 3].address).await;
                assert!(matches!(again, Err(ConnectError::Refused { .. })), "{turn} {at}: {:?}", again.err());
            }
        }
        // Whoever is in is let in where the store is heard, and nowhere else.
        for (guard, enters) in guards.iter().zip([true, true, false]) {
            assert_eq!(world.login("wv-1").connect(guard.address).await.is_ok(), enters);
        }
        wires[2].mend();
        let began = Instant::now();
        while world.login("wv-2").connect(guards[2].address).await.is_err() {
            assert!(began.elapsed() < Duration::from_secs(60), "{:?}", guards[2].running.lines());
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        for at in 0..FLEET {
            let again = world.login(&format!("fv-{at}")).connect(guards[2].address).await;
            assert!(matches!(again, Err(ConnectError::Refused { .. })), "{at}: {:?}", again.err());
        }
    });
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn one_device_at_two_guards_is_noticed_and_has_no_more_sessions_than_one_may() {
    let (world, database) = equipped();
    let kinds = std::fs::read_to_string(world.path("w/ward.toml")).unwrap();
    world.write("w/ward.toml", kinds.replace("token_login = true", "token_login = true\nclone_watch = \"hold\""));
    world.append("w/ward.toml", "\n[guard]\nsessions_per_device = 3\n");
    let broker = Mosquitto::start(&world);
    let names = ["guard-1", "guard-2"];
    names.iter().for_each(|name| {
        world.post(&database, name);
        world.append(&format!("{name}/post.toml"), "\n[guard]\nproxy_protocol = true\nproxy_from = [\"127.0.0.1\"]\n");
    });
    let at = format!("127.0.0.1:{}", broker.port);
    let guards = names.map(|name| world.post_guard(name, &at));
    let from = async |guard: &Guard, id: &str, client: &str, from: [u8; 4]| {
        let header =
            [&b"\r\n\r\n\0\r\nQUIT\n\x21\x11\0\x0c"[..], &from, &[127, 0, 0, 1, 0x30, 0x39, 0x22, 0xb3]].concat();
        let mut tcp = tokio::net::TcpStream::connect(guard.address).await.unwrap();
        tokio::io::AsyncWriteExt::write_all(&mut tcp, &header).await.unwrap();
        let mut login = world.login(id);
        login.client_id = client.to_owned();
        login.open(login.secure_over(tcp).await?).await
    };
    block_on(async {
        // Both guards have said that they are there.
        let up = || world.run(&["post", "list"]).stdout.matches(" up ").count() == 2;
        assert!(eventually(|| up().then_some(())).is_some());
        // The same client at the other guard takes the session over, as the broker sees to it.
        let mut first = from(&guards[0], "wv-2", "wv-2", [10, 0, 0, 1]).await.unwrap();
        let _second = from(&guards[1], "wv-2", "wv-2", [10, 0, 0, 1]).await.unwrap();
        assert!(first.ended(SOON).await.is_some());
        // Three at both guards together, and not one more.
        let mut more = Vec::new();
        for (client, guard) in [("wv-2:a", &guards[0]), ("wv-2:b", &guards[1])] {
            more.push(from(guard, "wv-2", client, [10, 0, 0, 1]).await.unwrap());
        }
        // What these three told is written by then, and that the one that was taken over is gone.
        let sql = "SELECT string_agg(client_id, ' ' ORDER BY client_id) FROM sessions";
        let told = || Cluster::shared().sql(&database, sql).trim() == "wv-2 wv-2:a wv-2:b";
        assert!(eventually(|| told().then_some(())).is_some());
        let mut fourth = from(&guards[0], "wv-2", "wv-2:c", [10, 0, 0, 1]).await.unwrap();
        let how = fourth.ended(SOON).await;
        assert!(how.as_ref().is_some_and(|how| how.contains("4 sessions at all guards together")), "{how:?}");
        for each in &mut more {
            each.ping().await.unwrap();
        }
        // From two addresses in turn, each by a guard of its own.
        let told = |network: &str| {
            let sql = format!("SELECT count(*) FROM places WHERE last = '{network}'");
            eventually(|| (Cluster::shared().sql(&database, &sql).trim() == "1").then_some(())).is_some()
        };
        from(&guards[0], "wv-1", "wv-1", [10, 0, 0, 7]).await.unwrap().goodbye().await;
        assert!(told("10.0.0.7"));
        from(&guards[1], "wv-1", "wv-1", [10, 0, 0, 8]).await.unwrap().goodbye().await;
        assert!(told("10.0.0.8"));
        let mut back = from(&guards[0], "wv-1", "wv-1", [10, 0, 0, 7]).await.unwrap();
        assert!(back.ended(SOON).await.is_some_and(|how| how.contains("on hold")));
        let sign = guards[0].event("clone-sign", |event| event["device"] == "wv-1");
        assert_eq!(sign["sign"], "it comes from 10.0.0.7 and from 10.0.0.8 in turn, by way of several guards");
    });
    world.run(&["audit", "log"]).exits(0).prints(&["post guard-1", "device.clone-sign", "hold"]);
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn children_that_a_guard_at_a_post_hears_of_wait_and_a_desk_lists_those_that_need_no_person() {
    let (world, database) = world_in(Cluster::shared());
    crate::children::equip(&world);
    world.post(&database, "guard-2");
    let guard = world.post_guard("guard-2", "builtin");
    block_on(async {
        let mut live = world.login("st-1").connect(guard.address).await.unwrap();
        for topic in ["cabins/cb-1/door", "gates/tg-1/turnstile"] {
            assert!(!live.publish(&format!("rope/ossel/st-1/{topic}"), b"x").await.unwrap().is_ok());
        }
        for child in ["cb-1", "tg-1"] {
            // A guard at a post lists nobody, whatever the kind takes.
            let told = guard.event("introduced", |event| event["child"] == child);
            assert_eq!((&told["state"], &told["device"]), (&"waits".into(), &"st-1".into()));
        }
        world.run(&["device", "list", "--where", "state = asking"]).exits(0).prints(&["cb-1", "tg-1", "st-1"]);
        let desk = crate::desk::Desk::start(&world);
        let took = desk.event("took-in", |event| event["child"] == "tg-1");
        assert_eq!((&took["device"], &took["kind"]), (&"st-1".into(), &"turnstile".into()));
        world
            .run(&["device", "list", "--where", "gateway = st-1"])
            .exits(0)
            .prints(&["tg-1", "listed", "cb-1", "asking"]);
        let mut tries = 0;
        while !live.publish("rope/ossel/st-1/gates/tg-1/turnstile", b"x").await.unwrap().is_ok() {
            tries += 1;
            assert!(tries < 200, "its gateway speaks for it");
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        world.run(&["device", "accept", "cb-1", "--yes"]).exits(0);
        assert!(
            eventually(|| {
                let told = world.run(&["device", "show", "cb-1", "--format", "json"]).exits(0).json();
                (told["state"] == "listed").then_some(())
            })
            .is_some()
        );
    });
    let log = world.run(&["audit", "log", "--format", "jsonl"]).exits(0).stdout;
    assert!(log.lines().any(|line| line.contains("device.introduce") && line.contains("post guard-2")), "{log}");
    world.run(&["audit", "verify"]).exits(0);
}

#[test]
fn a_desk_at_a_post_lets_devices_in_and_can_do_nothing_else_to_the_ward() {
    let (world, database) = world_in(Cluster::shared());
    world.append("w/ward.toml", "[kinds.tension]\nadmit = \"ask\"\nid = \"tn-{serial}\"\n");
    world.secret("post.txt", "of this post alone\n");
    let add = ["post", "add", "desk-2", "--role", "desk", "--host", "localhost", "--out", "desk-2"];
    world
        .run(&[&add[..], &["--post-passphrase-file", "post.txt"]].concat())
        .exits(0)
        .says(&["tidy-warden desk --post desk-2", "whoever takes over its machine can certify devices"]);
    world.give_roles(&database);
    assert_eq!(
        files(&world.path("desk-2")),
        ["keys/desk.key", "keys/devices.key", "post.pem", "post.toml", "store.pw"]
    );
    let open = ["admission", "open", "--id", "wv-9", "--kind", "windvane", "--secret", "--format", "json"];
    let secret = world.run(&open).exits(0).json()["secret"].as_str().unwrap().to_owned();
    world.run(&["guard", "--post", "desk-2", "--broker", "builtin"]).exits(3).says(&["is a desk, and no guard"]);
    let command = |more: &[&str]| {
        let mut command = world.command(env!("CARGO_BIN_EXE_tidy-warden"));
        command.env("TIDY_WARDEN_WARD", "nowhere").env("TIDY_WARDEN_PASSPHRASE_FILE", "pass.txt").env("USER", "ada");
        command
            .args(["desk", "--post", "desk-2", "--listen", "127.0.0.1:0", "--listen-http", "127.0.0.1:0"])
            .args(more);
        command
    };
    let wrong = command(&["--post-passphrase-file", "pass.txt"]).output().unwrap();
    assert!(!wrong.status.success(), "no other passphrase opens it");
    let desk = crate::desk::Desk::of(&world, &mut command(&["--post-passphrase-file", "post.txt"]));
    // A device comes in, and one asks.
    crate::desk::openssl_request(&world, "one", "/");
    let enrol = |request: &str, more: &[&str]| -> (u16, String) {
        let url = format!("https://localhost:{}/.well-known/est/{}", desk.address.port(), more[0]);
        let data = format!("@{request}.b64");
        let base = ["-s", "-S", "--cacert", "trust/root.pem", "-w", "\n%{http_code}", "--data-binary", &data];
        let typed = ["-H", "Content-Type: application/pkcs10", &url];
        let ran = world.other("curl", &[&base[..], &more[1..], &typed].concat()).exits(0);
        let (body, status) = ran.stdout.rsplit_once('\n').unwrap();
        (status.parse().unwrap(), body.to_owned())
    };
    let user = format!("wv-9:{secret}");
    let (status, body) = enrol("one", &["simpleenroll", "-u", &user]);
    assert_eq!(status, 200, "{body} {}", desk.running.lines().join("\n"));
    let given = crate::desk::certificate(&world, &body, "one.pem");
    assert_eq!(enrol("one", &["simpleenroll", "-u", &user]).1, body, "a lost answer is given again");
    crate::desk::openssl_request(&world, "asks", "/serialNumber=12");
    let (status, words) = enrol("asks", &["tension/simpleenroll"]);
    assert_eq!(status, 202, "{words}");
    let code = words.trim_end().rsplit(' ').next().unwrap().to_owned();
    world.run(&["device", "accept", "tn-12", "--code", &code]).exits(0);
    assert_eq!(enrol("asks", &["tension/simpleenroll"]).0, 200);
    // It signs the list, and says how it is.
    world.run(&["revoke", "wv-9", "--reason", "superseded", "--yes"]).exits(0);
    let list = format!("http://127.0.0.1:{}/crl/devices.crl", desk.http.port());
    let listed = || {
        world.other("curl", &["-s", "-o", "devices.crl", &list]).exits(0);
        let text = world.other("openssl", &["crl", "-inform", "DER", "-in", "devices.crl", "-noout", "-text"]).stdout;
        text.to_lowercase().contains(&given.serial.to_string()).then_some(())
    };
    assert!(eventually(listed).is_some(), "soon after the revocation: {}", desk.running.lines().join("\n"));
    assert!(eventually(|| world.run(&["post", "list"]).stdout.contains("desk-2  desk   up").then_some(())).is_some());
    // What was adopted counts at once: this kind is not let in by asking any more.
    let text = std::fs::read_to_string(world.path("w/ward.toml")).unwrap();
    world.write("w/ward.toml", text.replace("admit = \"ask\"", "admit = \"secret\""));
    world.run(&["settings", "adopt", "--yes", "--because", "no more"]).exits(0);
    crate::desk::openssl_request(&world, "late", "/serialNumber=13");
    assert!(eventually(|| (enrol("late", &["tension/simpleenroll"]).0 == 401).then_some(())).is_some());
    let log = world.run(&["audit", "log", "--format", "jsonl"]).exits(0).stdout;
    let by_it = log.lines().filter(|line| line.contains("\"post desk-2\"")).count();
    assert!(by_it >= 4, "{log}");
    // Its role is its own: nothing that a person decides can be changed with it.
    let login = format!("{database}_post_desk-2");
    for sql in [
        "UPDATE devices SET out = NULL",
        "UPDATE devices SET held = NULL",
        "UPDATE credentials SET revoked = NULL WHERE revoked IS NOT NULL",
        "UPDATE devices SET labels = '{}'",
        "DELETE FROM devices",
        "INSERT INTO editions SELECT * FROM editions",
        "INSERT INTO adopted_settings SELECT * FROM adopted_settings",
        "UPDATE audit SET subject = ''",
        "INSERT INTO audit SELECT number + 1, at, 'ada', act, subject, because, detail, hash, hash FROM audit ORDER BY 1 DESC LIMIT 1",
        "DELETE FROM blocked_keys",
        "UPDATE posts SET retired = NULL",
        "SELECT verifier FROM posts",
        "UPDATE authorities SET retired = NULL",
        "INSERT INTO admissions SELECT * FROM admissions",
        "UPDATE head SET doubt = NULL",
        "CREATE TABLE mine (a INT)",
    ] {
        let told = Cluster::shared().tries(&database, &login, sql);
        assert!(
            told.is_some_and(|told| ["permission denied", "row-level security", "stays revoked"]
                .iter()
                .any(|why| told.contains(why))),
            "{sql}"
        );
    }
    drop(desk);
    world.run(&["post", "retire", "desk-2", "--yes", "--because", "the machine was given back"]).exits(0);
    world.give_roles(&database);
    let out = command(&["--post-passphrase-file", "post.txt"]).output().unwrap();
    assert!(!out.status.success(), "a retired post is out");
    world.run(&["audit", "verify"]).exits(0);
}
