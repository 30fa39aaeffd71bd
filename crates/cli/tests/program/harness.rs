//! A ward in a temporary folder, and processes that end with their test.

use std::io::{BufRead, BufReader, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use serde_json::Value;
use tidy_warden_core::certificate::Certificate;
use tidy_warden_rig::Cluster;
use tidy_warden_simulate::{ConnectError, Device, Login};

/// What a run of the program gave.
pub(crate) struct Ran {
    pub(crate) code: i32,
    pub(crate) stdout: String,
    pub(crate) stderr: String,
    call: String,
}

impl Ran {
    /// Fails the test, with everything that was said, unless the exit code is `code`.
    #[track_caller]
    pub(crate) fn exits(self, code: i32) -> Self {
        assert_eq!(self.code, code, "{self}");
        self
    }

    /// Fails the test unless standard error holds every one of `texts`.
    #[track_caller]
    pub(crate) fn says(self, texts: &[&str]) -> Self {
        for text in texts {
            assert!(self.stderr.contains(text), "standard error lacks {text:?}\n{self}");
        }
        self
    }

    /// Fails the test unless standard output holds every one of `texts`.
    #[track_caller]
    pub(crate) fn prints(self, texts: &[&str]) -> Self {
        for text in texts {
            assert!(self.stdout.contains(text), "standard output lacks {text:?}\n{self}");
        }
        self
    }

    /// Standard output as JSON.
    #[track_caller]
    pub(crate) fn json(&self) -> Value {
        serde_json::from_str(&self.stdout).unwrap_or_else(|error| panic!("{error}\n{self}"))
    }
}

impl std::fmt::Display for Ran {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "$ {}\nexit {}\n--- stdout\n{}--- stderr\n{}", self.call, self.code, self.stdout, self.stderr)
    }
}

/// The variable that says where the wards of all tests keep what they know: `postgresql`, or in files without it.
pub(crate) const STORES: &str = "TIDY_WARDEN_TEST_STORE";

/// Whether wards are made in databases.
pub(crate) fn in_databases() -> bool {
    std::env::var_os(STORES).is_some_and(|kind| kind == "postgresql")
}

/// A folder with a passphrase and, after [`World::init`], a ward.
pub(crate) struct World {
    pub(crate) dir: tempfile::TempDir,
    variables: Vec<(String, String)>,
}

pub(crate) const KINDS: &str =
    "\n[kinds.windvane]\ntoken_login = true\n[kinds.station]\n[kinds.control-room]\nrole = \"service\"\n";

pub(crate) const POLICY: &str = r#"policy pylon-vane {
  for   kind = windvane
  allow connect   as "{device}"
  allow connect   as "{device}:*"
  allow publish   "rope/{site}/{device}/wind"      qos <= 1, size <= 2KiB
  allow publish   "rope/{site}/{device}/lost"
  allow subscribe "rope/{site}/{device}/settings"
  deny  publish   "rope/+/+/brake"                 because "only drive stations brake"
}

policy control-room {
  for   kind = control-room
  allow connect   as "{device}"
  allow subscribe "rope/{site}/#"           because "the control room watches its site"
  allow publish   "rope/{site}/+/settings"  because "the control room sets its site"
}
"#;

/// The system's clock as RFC 3339, `hours` from now.
pub(crate) fn in_hours(hours: i64) -> String {
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs();
    tidy_warden_core::time::UnixTime(i64::try_from(now).unwrap() + hours * 3_600).to_string()
}

/// The same, `days` from now.
pub(crate) fn in_days(days: i64) -> String {
    in_hours(days * 24)
}

impl World {
    pub(crate) fn new() -> Self {
        let dir = tempfile::tempdir().unwrap();
        let world = Self { dir, variables: Vec::new() };
        world.secret("pass.txt", "correct horse battery\n");
        world
    }

    /// A ward with kinds, but no devices. It is a rehearsal, whose keys are quick to open; tests that want all of a real ward make one
    /// themselves ([`World::real`]).
    pub(crate) fn init() -> Self {
        Self::made(&["--rehearsal"])
    }

    /// A ward that is no rehearsal.
    pub(crate) fn real() -> Self {
        Self::made(&[])
    }

    fn made(more: &[&str]) -> Self {
        let world = Self::new();
        world.run(&[&["init", "--name", "North fleet", "--host", "localhost"], more].concat()).exits(0);
        world.append("w/ward.toml", KINDS);
        world
    }

    /// A rehearsal whose clock is the file `now`, set to the present, with these kinds, but no devices.
    pub(crate) fn driven(kinds: &str) -> Self {
        Self::driven_from(&in_hours(0), kinds)
    }

    /// The same, whose clock begins at another time.
    pub(crate) fn driven_from(now: &str, kinds: &str) -> Self {
        let world = Self::new();
        world.write("now", now);
        let world = world.with("TIDY_WARDEN_NOW", "@now");
        let made = world.run(&["init", "--name", "Rehearsal", "--host", "localhost", "--rehearsal"]);
        made.exits(0).prints(&["REHEARSAL"]);
        world.append("w/ward.toml", kinds);
        world
    }

    /// A rehearsal whose clock is the file `now`, with these kinds and so many wind vanes at ossel, `wv-1` and on, all with outfits.
    pub(crate) fn driven_with(kinds: &str, vanes: usize) -> Self {
        let world = Self::driven(kinds);
        let mut list = "id,kind,label.site\n".to_owned();
        (1..=vanes).for_each(|number| list.push_str(&format!("wv-{number},windvane,ossel\n")));
        world.write("fleet.csv", list);
        world.adopt(POLICY);
        world.run(&["enroll", "--from", "fleet.csv", "--out", "outfits", "--yes"]).exits(0);
        world
    }

    /// A ward with an adopted policy, two wind vanes and a control room at ossel, all with outfits.
    pub(crate) fn equipped() -> Self {
        let world = Self::init();
        world.equip();
        world
    }

    /// Gives a ward without devices what [`World::equipped`] has.
    pub(crate) fn equip(&self) {
        self.write(
            "list.csv",
            "id,kind,label.site\nwv-1,windvane,ossel\nwv-2,windvane,ossel\ncr-ossel,control-room,ossel\n",
        );
        self.run(&["device", "import", "list.csv"]).exits(0);
        self.adopt(POLICY);
        for id in ["wv-1", "wv-2", "cr-ossel"] {
            self.run(&["enroll", id, "--make-key", "--out", "outfits"]).exits(0);
        }
    }

    pub(crate) fn adopt(&self, policy: &str) {
        self.write("w/policies/all.policy", policy);
        self.run(&["policy", "adopt", "--yes"]).exits(0);
    }

    /// Sets a variable for every run from now on.
    pub(crate) fn with(mut self, name: &str, value: &str) -> Self {
        self.variables.push((name.to_owned(), value.to_owned()));
        self
    }

    pub(crate) fn path(&self, name: &str) -> PathBuf {
        self.dir.path().join(name)
    }

    pub(crate) fn write(&self, name: &str, text: impl AsRef<[u8]>) {
        std::fs::write(self.path(name), text).unwrap();
    }

    pub(crate) fn append(&self, name: &str, text: &str) {
        let mut file = std::fs::OpenOptions::new().append(true).open(self.path(name)).unwrap();
        file.write_all(text.as_bytes()).unwrap();
    }

    pub(crate) fn secret(&self, name: &str, text: &str) {
        use std::os::unix::fs::PermissionsExt;
        self.write(name, text);
        std::fs::set_permissions(self.path(name), std::fs::Permissions::from_mode(0o600)).unwrap();
    }

    /// A command in the folder, with nothing of the tester's environment but PATH.
    pub(crate) fn command(&self, program: &str) -> Command {
        let mut command = Command::new(program);
        command.current_dir(self.dir.path()).env_clear().stdin(Stdio::null());
        command.env("PATH", std::env::var_os("PATH").unwrap_or_default());
        command
    }

    /// The program, not yet started.
    pub(crate) fn program(&self, args: &[&str]) -> Command {
        let mut command = self.command(env!("CARGO_BIN_EXE_tidy-warden"));
        command.env("TIDY_WARDEN_WARD", "w").env("TIDY_WARDEN_PASSPHRASE_FILE", "pass.txt").env("USER", "ada");
        command.envs(self.variables.iter().map(|(name, value)| (name, value))).args(args);
        if args.first() == Some(&"init") && !args.contains(&"--store") && in_databases() {
            let cluster = Cluster::shared();
            command.arg("--store").arg(cluster.address(&cluster.database()));
        }
        command
    }

    pub(crate) fn run(&self, args: &[&str]) -> Ran {
        ran(&mut self.program(args))
    }

    /// How many octets the log of the store's file has: none when nobody has it open, or nobody has written since it was opened.
    pub(crate) fn store_log(&self) -> u64 {
        std::fs::metadata(self.path("w/ward.db-wal")).map_or(0, |log| log.len())
    }

    /// Makes a self-signed certificate and its key with openssl: `NAME.pem`, `NAME.key`.
    pub(crate) fn self_signed(&self, name: &str, more: &[&str]) {
        let call = ["req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-subj"];
        let subject = format!("/CN={name}");
        let (key, out) = (format!("{name}.key"), format!("{name}.pem"));
        let files = [subject.as_str(), "-keyout", &key, "-out", &out];
        self.other("openssl", &[&call[..], &files, more].concat()).exits(0);
    }

    /// Runs another program in the folder.
    pub(crate) fn other(&self, program: &str, args: &[&str]) -> Ran {
        ran(self.command(program).args(args))
    }

    /// Puts the guard's user name and password for a broker into the ward, and into a file for mosquitto.
    pub(crate) fn lock_broker(&self) {
        self.secret("w/broker.pw", "between us\n");
        self.append("w/ward.toml", "\n[guard]\nbroker_user = \"guard\"\nbroker_password_file = \"broker.pw\"\n");
        self.other("mosquitto_passwd", &["-b", "-c", "passwords", "guard", "between us"]).exits(0);
        // A broker that was started as root gives its rights up before it reads this.
        self.other("chmod", &["a+rx", ".", "passwords"]).exits(0);
    }

    /// The guard's and other processes' way in: outfit files as arguments of the mosquitto clients.
    pub(crate) fn mosquitto_args(&self, id: &str, port: u16) -> Vec<String> {
        let outfit = |name: &str| self.path(&format!("outfits/{id}/{name}")).display().to_string();
        let port = port.to_string();
        let (root, device, key) = (outfit("root.pem"), outfit("device.pem"), outfit("device.key"));
        ["--cafile", &root, "--cert", &device, "--key", &key, "-h", "localhost", "-p", &port, "-i", id]
            .map(str::to_owned)
            .to_vec()
    }

    /// The certificates in a file, in DER.
    fn ders(&self, name: &str) -> Vec<Vec<u8>> {
        let all = Certificate::read_all(&std::fs::read(self.path(name)).unwrap()).unwrap();
        all.iter().map(|each| each.der().to_vec()).collect()
    }

    /// Chain and key of an outfit in DER.
    pub(crate) fn identity(&self, id: &str) -> (Vec<Vec<u8>>, Vec<u8>) {
        let pem = std::fs::read_to_string(self.path(&format!("outfits/{id}/device.key"))).unwrap();
        let body: String = pem.lines().filter(|line| !line.starts_with("-----")).collect();
        let key = data_encoding::BASE64.decode(body.as_bytes()).unwrap();
        let chain = ["device.pem", "chain.pem"].map(|name| self.ders(&format!("outfits/{id}/{name}")));
        (chain.concat(), key)
    }

    /// The first root that an outfit carries.
    pub(crate) fn root(&self, id: &str) -> Vec<u8> {
        self.ders(&format!("outfits/{id}/root.pem")).remove(0)
    }

    /// A simulated device with the outfit of `id`.
    pub(crate) fn login(&self, id: &str) -> Login {
        Login::new(&self.root(id), Some(self.identity(id)), "localhost", id).unwrap()
    }
}

fn ran(command: &mut Command) -> Ran {
    let call = format!("{command:?}");
    let output =
        command.output().unwrap_or_else(|error| panic!("{call}: {error}; scripts/test installs what is missing"));
    Ran {
        code: output.status.code().unwrap_or(-1),
        stdout: String::from_utf8_lossy(&output.stdout).into_owned(),
        stderr: String::from_utf8_lossy(&output.stderr).into_owned(),
        call,
    }
}

/// A process that is killed when the test is over.
pub(crate) struct Running {
    child: Child,
    lines: Arc<Mutex<Vec<String>>>,
}

impl Running {
    /// Starts a command and collects the lines of its standard output and error.
    pub(crate) fn start(command: &mut Command) -> Self {
        let mut child = command
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap_or_else(|error| panic!("{command:?}: {error}; scripts/test installs what is missing"));
        let lines: Arc<Mutex<Vec<String>>> = Arc::default();
        let readers: [Box<dyn std::io::Read + Send>; 2] =
            [Box::new(child.stdout.take().unwrap()), Box::new(child.stderr.take().unwrap())];
        for reader in readers {
            let lines = lines.clone();
            std::thread::spawn(move || {
                for line in BufReader::new(reader).lines().map_while(Result::ok) {
                    lines.lock().unwrap().push(line);
                }
            });
        }
        Self { child, lines }
    }

    pub(crate) fn lines(&self) -> Vec<String> {
        self.lines.lock().unwrap().clone()
    }

    /// The first line that satisfies `wanted`, now or soon.
    #[track_caller]
    pub(crate) fn line(&self, what: &str, wanted: impl Fn(&str) -> bool) -> String {
        let found = eventually(|| self.lines().into_iter().find(|line| wanted(line)));
        found.unwrap_or_else(|| panic!("no line says {what}; all lines:\n{}", self.lines().join("\n")))
    }

    /// Sends it a signal, such as `HUP`.
    pub(crate) fn signal(&self, name: &str) {
        let kill = format!("kill -{name} {}", self.child.id());
        assert!(Command::new("sh").args(["-c", &kill]).status().unwrap().success());
    }

    /// Its process id.
    pub(crate) fn id(&self) -> u32 {
        self.child.id()
    }

    /// Ends it as an operator would, and gives its exit code.
    pub(crate) fn terminate(mut self) -> Option<i32> {
        // The shell has `kill` built in; the program of that name is not on every machine.
        let kill = format!("kill {}", self.child.id());
        let status = Command::new("sh").args(["-c", &kill]).status().unwrap();
        assert!(status.success());
        let ended = eventually(|| self.child.try_wait().unwrap());
        ended.and_then(|status| status.code())
    }

    /// Waits for its end, and gives its exit code.
    pub(crate) fn wait(&mut self) -> Option<i32> {
        eventually(|| self.child.try_wait().unwrap()).and_then(|status| status.code())
    }

    pub(crate) fn has_ended(&mut self) -> bool {
        self.child.try_wait().unwrap().is_some()
    }

    pub(crate) fn kill(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        self.kill();
    }
}

/// Asks again and again, for at most ten seconds.
pub(crate) fn eventually<T>(mut ask: impl FnMut() -> Option<T>) -> Option<T> {
    let begun = Instant::now();
    loop {
        match ask() {
            Some(answer) => return Some(answer),
            None if begun.elapsed() > Duration::from_secs(10) => return None,
            None => std::thread::sleep(Duration::from_millis(20)),
        }
    }
}

pub(crate) fn free_port() -> u16 {
    TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port()
}

/// A mosquitto on a free loopback port.
pub(crate) struct Mosquitto {
    pub(crate) port: u16,
    running: Running,
}

impl Mosquitto {
    pub(crate) fn start(world: &World) -> Self {
        Self::on(world, free_port())
    }

    pub(crate) fn on(world: &World, port: u16) -> Self {
        Self::with(world, port, &format!("listener {port} 127.0.0.1\nallow_anonymous true\n"))
    }

    /// One that takes the user `guard` with the password in `w/broker.pw`, and nobody else.
    pub(crate) fn locked(world: &World) -> Self {
        let port = free_port();
        world.lock_broker();
        let passwords = world.path("passwords").display().to_string();
        Self::with(
            world,
            port,
            &format!("listener {port} 127.0.0.1\nallow_anonymous false\npassword_file {passwords}\n"),
        )
    }

    /// One with listeners of the caller's; `port` is one of them.
    pub(crate) fn with(world: &World, port: u16, listeners: &str) -> Self {
        world.write("mosquitto.conf", format!("{listeners}persistence false\n"));
        let mut command = world.command("mosquitto");
        command.env("PATH", "/usr/sbin:/usr/bin:/bin").args(["-c", "mosquitto.conf"]);
        let running = Running::start(&mut command);
        let up = eventually(|| TcpStream::connect(("127.0.0.1", port)).ok());
        assert!(up.is_some(), "mosquitto did not start:\n{}", running.lines().join("\n"));
        Self { port, running }
    }

    /// The one that was stopped, with the same settings.
    pub(crate) fn again(world: &World, port: u16) -> Self {
        let settings = std::fs::read_to_string(world.path("mosquitto.conf")).unwrap();
        Self::with(world, port, settings.trim_end_matches("persistence false\n"))
    }

    pub(crate) fn signal(&self, name: &str) {
        self.running.signal(name);
    }

    pub(crate) fn stop(mut self) -> u16 {
        self.running.kill();
        self.port
    }

    /// A subscriber that sees everything on the broker, past the guard.
    pub(crate) fn watch(&self, world: &World) -> Running {
        let port = self.port.to_string();
        let running =
            Running::start(world.command("stdbuf").args(["-oL", "mosquitto_sub", "-p", &port, "-t", "#", "-v", "-d"]));
        running.line("that it is subscribed", |line| line.contains("SUBACK"));
        running
    }
}

/// A guard in front of a broker.
pub(crate) struct Guard {
    pub(crate) address: SocketAddr,
    pub(crate) running: Running,
}

impl Guard {
    /// Connects with `login` as a proxy would that got the connection from `from` (PROXY protocol, version 2).
    pub(crate) async fn proxied(&self, login: &Login, from: [u8; 4]) -> Result<Device, ConnectError> {
        let rest = [127, 0, 0, 1, 0x30, 0x39, 0x22, 0xb3];
        let header = [&b"\r\n\r\n\0\r\nQUIT\n\x21\x11\0\x0c"[..], &from, &rest].concat();
        let mut tcp = tokio::net::TcpStream::connect(self.address).await.unwrap();
        tokio::io::AsyncWriteExt::write_all(&mut tcp, &header).await.unwrap();
        login.open(login.secure_over(tcp).await?).await
    }

    pub(crate) fn start(world: &World, broker: &str) -> Self {
        Self::with(world, broker, &[])
    }

    pub(crate) fn with(world: &World, broker: &str, more: &[&str]) -> Self {
        let args = ["guard", "--listen", "127.0.0.1:0", "--broker", broker];
        Self::of(&mut world.program(&[&args, more].concat()))
    }

    /// The guard that a call begins.
    pub(crate) fn of(command: &mut Command) -> Self {
        let running = Running::start(command);
        let line =
            running.line("where it listens", |line| line.contains("\"listening\"") || line.starts_with("error:"));
        let event: Value = serde_json::from_str(&line).unwrap_or_else(|_| panic!("{}", running.lines().join("\n")));
        Self { address: event["address"].as_str().unwrap().parse().unwrap(), running }
    }

    /// Another address that it told of when it began to listen.
    pub(crate) fn told(&self, name: &str) -> SocketAddr {
        self.event("listening", |event| event[name].is_string())[name].as_str().unwrap().parse().unwrap()
    }

    /// Makes it read its settings anew, and waits until it says what came of it.
    #[track_caller]
    pub(crate) fn reload(&self) -> Value {
        let seen = self.running.lines().len();
        self.running.signal("HUP");
        let found = eventually(|| {
            self.running.lines()[seen..].iter().find_map(|line| {
                let event: Value = serde_json::from_str(line).ok()?;
                let about = event["event"] == "reloaded"
                    || event["what"].as_str().is_some_and(|what| what.contains("reloaded"));
                about.then_some(event)
            })
        });
        found.expect("the guard says what came of a reload")
    }

    pub(crate) fn before(world: &World, broker: &Mosquitto) -> Self {
        Self::start(world, &format!("127.0.0.1:{}", broker.port))
    }

    /// The first event of a type that satisfies `wanted`.
    #[track_caller]
    pub(crate) fn event(&self, name: &str, wanted: impl Fn(&Value) -> bool) -> Value {
        let line = self.running.line(name, |line| {
            serde_json::from_str::<Value>(line).is_ok_and(|event| event["event"] == name && wanted(&event))
        });
        serde_json::from_str(&line).unwrap()
    }
}

/// A runtime for simulated devices.
pub(crate) fn block_on<T>(future: impl Future<Output = T>) -> T {
    tokio::runtime::Runtime::new().unwrap().block_on(future)
}

pub(crate) fn exists(path: &Path) -> bool {
    path.symlink_metadata().is_ok()
}
