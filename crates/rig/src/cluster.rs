//! A PostgreSQL server of the tests' own, on a Unix socket in a temporary folder.

use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::{Duration, Instant};

/// The role that owns the databases of tests; it can do nothing else.
const OPERATOR: &str = "operator";

/// A running server. It ends with the process that started it, whatever becomes of that: what stops it is that nobody holds the
/// other end of its keeper's input any more.
#[derive(Debug)]
pub struct Cluster {
    folder: PathBuf,
    programs: PathBuf,
    databases: AtomicU32,
    keeper: Child,
}

/// Starts the server, waits for the end of its input, and takes all away again.
const KEEPER: &str = r#"
"$1/pg_ctl" -D "$2/data" -l "$2/log" -w -t 60 -s start || { cat "$2/log" >&2; exit 1; }
echo started
cat >/dev/null
"$1/pg_ctl" -D "$2/data" -m immediate -s stop
rm -rf "$2"
"#;

/// Settings for a server that nobody needs after the test. What the product relies on stays as it is by default.
const SETTINGS: &str = "
listen_addresses = ''
max_connections = 200
shared_buffers = 64MB
";

/// What makes tests quick. Nobody pulls the plug of their machine.
const IN_A_HURRY: &str = "
fsync = off
full_page_writes = off
";

/// A command that runs as somebody whom the server takes: it refuses to run as root.
fn as_somebody(program: &Path) -> Command {
    let is_root = std::fs::metadata("/proc/self").is_ok_and(|own| std::os::unix::fs::MetadataExt::uid(&own) == 0);
    if !is_root {
        return Command::new(program);
    }
    let mut command = Command::new("runuser");
    command.args(["-u", "postgres", "--"]).arg(program);
    command
}

/// Writes a file of the server's.
fn written(how: &[&str], path: &Path, text: &str) {
    let mut write = as_somebody(Path::new("tee"));
    let mut write = write.args(how).arg(path).stdin(Stdio::piped()).stdout(Stdio::null()).spawn().unwrap();
    std::io::Write::write_all(&mut write.stdin.take().unwrap(), text.as_bytes()).unwrap();
    assert!(write.wait().unwrap().success());
}

fn done(output: Output, what: &str) -> String {
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(output.status.success(), "{what}: {said}");
    String::from_utf8(output.stdout).unwrap()
}

/// The folder of the newest server's programs: Debian keeps them out of the way.
fn programs() -> PathBuf {
    let mut found: Vec<(u32, PathBuf)> = std::fs::read_dir("/usr/lib/postgresql")
        .into_iter()
        .flatten()
        .flatten()
        .filter_map(|entry| Some((entry.file_name().to_str()?.parse().ok()?, entry.path().join("bin"))))
        .filter(|(_, programs)| programs.join("initdb").exists())
        .collect();
    found.sort();
    found.pop().expect("these tests need the Debian package postgresql: scripts/test installs it").1
}

/// A folder of the server's own. Its name is short, as the path of a socket is at most 107 octets; whoever takes it away again makes it.
fn new_folder() -> PathBuf {
    let mut folder = as_somebody(Path::new("mktemp"));
    let folder = done(folder.args(["-d", "/tmp/tw-pg-XXXXXX"]).output().unwrap(), "mktemp");
    let folder = PathBuf::from(folder.trim_end());
    assert!(as_somebody(Path::new("chmod")).arg("755").arg(&folder).status().unwrap().success());
    folder
}

impl Cluster {
    /// The one server of this process.
    ///
    /// # Panics
    /// It cannot be started.
    pub fn shared() -> &'static Self {
        static SHARED: OnceLock<Cluster> = OnceLock::new();
        SHARED.get_or_init(Self::start)
    }

    /// A server of one's own, which can be stopped and started.
    ///
    /// # Panics
    /// It cannot be started.
    #[must_use]
    pub fn start() -> Self {
        Self::made(IN_A_HURRY)
    }

    /// A server as it is by default, which writes to its disk what it acknowledges; for measuring.
    ///
    /// # Panics
    /// It cannot be started.
    #[must_use]
    pub fn durable() -> Self {
        Self::made("")
    }

    fn made(more: &str) -> Self {
        let (programs, folder) = (programs(), new_folder());
        let mut make = as_somebody(&programs.join("initdb"));
        make.args(["--no-sync", "--auth=trust", "--username=postgres", "--encoding=UTF8", "--locale=C.UTF-8", "-D"]);
        done(make.arg(folder.join("data")).output().unwrap(), "initdb");
        let cluster = Self::kept(programs, folder, more);
        cluster.sql("postgres", &format!("CREATE ROLE {OPERATOR} LOGIN"));
        cluster
    }

    /// A server that follows this one, and takes over when it is promoted. From now on whatever is committed here is there too.
    ///
    /// # Panics
    /// It cannot be started.
    #[must_use]
    pub fn standby(&self) -> Self {
        let folder = new_folder();
        let mut copy = as_somebody(&self.programs.join("pg_basebackup"));
        copy.args(["-U", "postgres", "-R", "-X", "stream", "-c", "fast", "-h"]).arg(&self.folder).arg("-D");
        done(copy.arg(folder.join("data")).output().unwrap(), "pg_basebackup");
        let standby = Self::kept(self.programs.clone(), folder, IN_A_HURRY);
        self.sql("postgres", "ALTER SYSTEM SET synchronous_standby_names = '*'");
        self.control(&["reload"]);
        let began = Instant::now();
        while self.sql("postgres", "SELECT count(*) FROM pg_stat_replication WHERE sync_state = 'sync'").trim() != "1" {
            assert!(began.elapsed() < Duration::from_secs(60), "the standby does not follow");
            std::thread::sleep(Duration::from_millis(50));
        }
        standby
    }

    /// Lets a standby take over.
    ///
    /// # Panics
    /// It does not.
    pub fn promote(&self) {
        self.sql("postgres", "ALTER SYSTEM SET synchronous_standby_names = ''");
        self.control(&["promote"]);
    }

    /// The address of a database that is at this server or, if that takes no writes, at another.
    #[must_use]
    pub fn address_with(&self, other: &Self, database: &str) -> String {
        let (one, two) = (self.folder.display(), other.folder.display());
        format!("postgresql:///{database}?host={one},{two}&user={OPERATOR}&target_session_attrs=read-write")
    }

    /// The server whose data is in a folder, running.
    fn kept(programs: PathBuf, folder: PathBuf, more: &str) -> Self {
        let settings = format!("{SETTINGS}\n{more}\nunix_socket_directories = '{}'\n", folder.display());
        written(&["-a"], &folder.join("data/postgresql.conf"), &settings);
        let mut keeper = as_somebody(Path::new("sh"))
            .args(["-c", KEEPER, "keeper"])
            .arg(&programs)
            .arg(&folder)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let mut line = String::new();
        let mut said = std::io::BufReader::new(keeper.stdout.take().unwrap());
        std::io::BufRead::read_line(&mut said, &mut line).unwrap();
        assert_eq!(line, "started\n", "the database server did not start");
        Self { folder, programs, databases: AtomicU32::new(0), keeper }
    }

    /// The folder of its socket.
    #[must_use]
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// Runs SQL in a database as the server's owner; gives what it prints, without heads.
    ///
    /// # Panics
    /// It fails.
    pub fn sql(&self, database: &str, sql: &str) -> String {
        self.sql_at(5432, database, sql)
    }

    /// The same for a server that was given another port.
    ///
    /// # Panics
    /// It fails.
    pub fn sql_at(&self, port: u16, database: &str, sql: &str) -> String {
        let mut psql = Command::new(self.programs.join("psql"));
        psql.args(["-X", "-q", "-A", "-t", "-v", "ON_ERROR_STOP=1", "-U", "postgres", "-d", database, "-c", sql]);
        psql.args(["-p", &port.to_string(), "-h"]);
        done(psql.arg(&self.folder).output().unwrap(), sql)
    }

    /// How many transactions of one statement a second so many clients get through, each on a connection of its own.
    ///
    /// # Panics
    /// It cannot be measured.
    #[must_use]
    pub fn commits(&self, database: &str, sql: &str, clients: u32, seconds: u32) -> f64 {
        let script = self.folder.join("data/commits.sql");
        written(&[], &script, sql);
        let mut bench = as_somebody(&self.programs.join("pgbench"));
        bench.args([
            "-n",
            "-M",
            "prepared",
            "-U",
            OPERATOR,
            "-c",
            &clients.to_string(),
            "-j",
            "2",
            "-T",
            &seconds.to_string(),
            "-f",
        ]);
        let said = done(bench.arg(&script).arg("-h").arg(&self.folder).arg(database).output().unwrap(), "pgbench");
        let line = said.lines().find(|line| line.starts_with("tps = ")).unwrap();
        line.split(' ').nth(2).unwrap().parse().unwrap()
    }

    /// What psql says when a role tries SQL in a database; nothing if it may.
    ///
    /// # Panics
    /// psql cannot be run.
    #[must_use]
    pub fn tries(&self, database: &str, role: &str, sql: &str) -> Option<String> {
        let mut psql = Command::new(self.programs.join("psql"));
        psql.args(["-X", "-q", "-A", "-t", "-v", "ON_ERROR_STOP=1", "-U", role, "-d", database, "-c", sql, "-h"]);
        let output = psql.arg(&self.folder).output().unwrap();
        (!output.status.success()).then(|| String::from_utf8_lossy(&output.stderr).into_owned())
    }

    /// Makes an empty database, which a plain role owns; gives its name.
    pub fn database(&self) -> String {
        self.database_at(5432)
    }

    /// The same for a server that was given another port.
    pub fn database_at(&self, port: u16) -> String {
        let name = format!("ward_{}", self.databases.fetch_add(1, Ordering::Relaxed));
        self.sql_at(port, "postgres", &format!("CREATE DATABASE {name} OWNER {OPERATOR}"));
        name
    }

    /// The address of a database, for the role that owns it.
    #[must_use]
    pub fn address(&self, database: &str) -> String {
        format!("postgresql:///{database}?host={}&user={OPERATOR}", self.folder.display())
    }

    /// Adds settings, which count from the next start.
    ///
    /// # Panics
    /// They cannot be written.
    pub fn set(&self, settings: &str) {
        written(&["-a"], &self.folder.join("data/postgresql.conf"), settings);
    }

    /// Writes a file of the server's own, such as `pg_hba.conf`, with the rights of a secret.
    ///
    /// # Panics
    /// It cannot be written.
    pub fn put(&self, name: &str, text: &str) {
        let path = self.folder.join("data").join(name);
        written(&[], &path, text);
        assert!(as_somebody(Path::new("chmod")).arg("600").arg(&path).status().unwrap().success());
    }

    /// Runs `pg_ctl` with these arguments, such as `-m immediate stop` and `start`, and waits for it.
    ///
    /// # Panics
    /// It fails.
    pub fn control(&self, arguments: &[&str]) {
        let mut control = as_somebody(&self.programs.join("pg_ctl"));
        control.arg("-D").arg(self.folder.join("data")).arg("-l").arg(self.folder.join("log"));
        // What it starts would hold the pipes open.
        control.args(["-w", "-s"]).args(arguments).stdout(Stdio::null()).stderr(Stdio::null());
        assert!(control.status().unwrap().success(), "pg_ctl {arguments:?}");
    }

    /// Sends a signal, such as `STOP`, to every process of the server.
    ///
    /// # Panics
    /// It cannot be sent.
    pub fn signal(&self, signal: &str) {
        let pid = std::fs::read_to_string(self.folder.join("data/postmaster.pid"));
        let pid = pid.map(|text| text.lines().next().unwrap_or_default().to_owned()).unwrap_or_else(|_| {
            let mut read = as_somebody(Path::new("head"));
            done(read.arg("-1").arg(self.folder.join("data/postmaster.pid")).output().unwrap(), "postmaster.pid")
        });
        let pid = pid.trim();
        let listed = Command::new("ps").args(["-o", "pid=", "--ppid", pid]).output().unwrap();
        let children = String::from_utf8(listed.stdout).unwrap();
        for process in std::iter::once(pid).chain(children.split_whitespace()) {
            let sent = as_somebody(Path::new("kill")).args(["-s", signal, process]).status().unwrap();
            assert!(sent.success() || process != pid, "kill -s {signal} {process}");
        }
    }
}

impl Drop for Cluster {
    fn drop(&mut self) {
        drop(self.keeper.stdin.take());
        let began = Instant::now();
        while began.elapsed() < Duration::from_secs(20) && matches!(self.keeper.try_wait(), Ok(None)) {
            std::thread::sleep(Duration::from_millis(20));
        }
    }
}
