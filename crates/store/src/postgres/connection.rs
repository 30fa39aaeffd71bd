//! A connection to the database: made so that it is safe to decide by, made again after it broke, and ended without waiting.

mod fault;
mod queue;
mod transaction;

use std::cell::{Cell, RefCell};
use std::collections::HashMap;
use std::future::poll_fn;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use futures_util::TryStreamExt;
use futures_util::future::{join_all, join3};
use tidy_warden_core::database::{DatabaseAddress, DatabaseHost};
use tokio::runtime::Runtime;
use tokio::sync::Notify;
use tokio_postgres::config::{ChannelBinding, SslMode, TargetSessionAttrs};
use tokio_postgres::tls::MakeTlsConnect;
use tokio_postgres::types::{FromSql, ToSql};
use tokio_postgres::{AsyncMessage, Client, Config, NoTls, Row, Socket, Statement};

use super::tls;
use crate::StoreError;
use fault::told;
use queue::Queue;

pub(super) use transaction::CHANNEL;

/// How long a writer waits for another before it gives up, and how long a connection may take to be made.
const PATIENCE: Duration = Duration::from_secs(20);

/// How long each host is given at least to take a connection, however little patience there is: a network takes its time.
const LEAST_TO_CONNECT: Duration = Duration::from_secs(3);

/// How long a transaction may be open without a word from this side, in milliseconds: whoever stalls, or was cut off, holds up all
/// writers for no longer. What is handed out between an act and its commit takes some of it.
const LEAST_WORD: u32 = 120_000;

/// The most statements that are kept prepared: conditions make new ones without end.
const MOST_STATEMENTS: usize = 200;

/// How many rows of many are taken at a time.
const MANY_ROWS: usize = 256;

/// How to come to a database.
#[derive(Clone)]
pub struct DatabaseAccess {
    /// Where it is, and as whom.
    pub address: DatabaseAddress,
    /// The password, if one is asked for. It goes only over a Unix socket, or over TLS bound to that connection (SCRAM with channel
    /// binding, RFC 5802), or where the settings say that they know better.
    pub password: Option<zeroize::Zeroizing<String>>,
    /// The certificates that a server's must lead to, in PEM; needed where TLS is.
    pub roots: Option<Vec<u8>>,
    /// Whether a password may go over a loopback address without TLS, and hosts elsewhere may be asked without TLS at all.
    pub insecure: bool,
    /// Whether the role is a post's, which writes by functions that check.
    pub is_post: bool,
}

impl std::fmt::Debug for DatabaseAccess {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "DatabaseAccess({})", self.address)
    }
}

/// What is asked of a connection before it is used.
const CHECKS: &str = "SELECT current_setting('synchronous_commit'), extract(epoch FROM clock_timestamp())::bigint,
    current_setting('server_version_num')::bigint, current_setting('server_encoding')";

/// A line to the database that works: the client, and what drives it while somebody waits. Nothing does in between.
struct Line {
    runtime: Runtime,
    client: Client,
}

/// Waits for an answer, and drives the line meanwhile: a thread of its own for that would cost each question two changes of threads.
/// This thread may be one of another runtime, which is told that it waits; of a runtime that has this thread alone it may not be.
fn wait<T>(runtime: &Runtime, answer: impl Future<Output = T>) -> T {
    tokio::task::block_in_place(|| runtime.block_on(answer))
}

/// What the database says without being asked.
#[derive(Default)]
struct Heard {
    /// Something changed.
    notice: Notify,
    /// A commit may not have reached its standby.
    in_doubt: AtomicBool,
}

/// A connection. It is used from one thread at a time, and each question waits for its answer, no longer than its patience allows.
pub(super) struct Connection {
    access: Arc<DatabaseAccess>,
    line: RefCell<Option<Line>>,
    statements: RefCell<HashMap<String, Statement>>,
    /// What is said on each new line.
    greeting: RefCell<String>,
    patience: Cell<Duration>,
    /// How far this machine's clock is ahead of the database's, in seconds.
    clock_ahead: Cell<i64>,
    heard: Arc<Heard>,
    in_transaction: Cell<bool>,
    queue: Queue,
}

impl Drop for Connection {
    fn drop(&mut self) {
        self.hang_up();
    }
}

impl Connection {
    pub(super) fn open(access: Arc<DatabaseAccess>, patience: Option<Duration>) -> Result<Self, StoreError> {
        let connection = Self {
            access,
            line: RefCell::new(None),
            statements: RefCell::default(),
            greeting: RefCell::default(),
            patience: Cell::new(patience.unwrap_or(PATIENCE)),
            clock_ahead: Cell::new(0),
            heard: Arc::default(),
            in_transaction: Cell::new(false),
            queue: Queue::default(),
        };
        connection.connect()?;
        Ok(connection)
    }

    /// Another connection to the same database, as patient as this one.
    pub(super) fn another(&self) -> Result<Self, StoreError> {
        Self::open(self.access.clone(), Some(self.patience.get()))
    }

    /// Whether the role is a post's.
    pub(super) fn is_post(&self) -> bool {
        self.access.is_post
    }

    /// How long it waits for an answer: a lock that is not given is told of before that.
    fn answer(&self) -> Duration {
        self.patience.get() * 2 + Duration::from_secs(1)
    }

    /// Says something now and on each line that takes the place of this one.
    pub(super) fn greet(&self, sql: &str) -> Result<(), StoreError> {
        sql.clone_into(&mut self.greeting.borrow_mut());
        self.batch(sql)
    }

    /// Ends the connection without waiting for anybody: its thread may be one that must not. A transaction that was open stays so to
    /// whoever works in it: nothing of it may go on by another line.
    fn hang_up(&self) {
        self.statements.borrow_mut().clear();
        if let Some(Line { runtime, client }) = self.line.borrow_mut().take() {
            drop(client);
            runtime.shutdown_background();
        }
    }

    fn config(&self) -> Config {
        let address = &self.access.address;
        let mut config = Config::new();
        for host in &address.hosts {
            match host {
                DatabaseHost::Socket { folder, port } => config.host_path(folder).port(*port),
                DatabaseHost::Tcp(endpoint) => config.host(&endpoint.host).port(endpoint.port),
            };
        }
        config.user(&address.user).dbname(&address.database).application_name("tidy-warden");
        config.target_session_attrs(TargetSessionAttrs::ReadWrite);
        config.connect_timeout(self.patience.get().clamp(LEAST_TO_CONNECT, Duration::from_secs(10)));
        config.keepalives_idle(Duration::from_secs(15)).tcp_user_timeout(PATIENCE);
        config.ssl_mode(if address.tls { SslMode::Require } else { SslMode::Disable });
        if let Some(password) = &self.access.password {
            config.password(password.as_bytes());
        }
        config.channel_binding(match (&self.access.password, address.tls) {
            // Whoever stands between cannot use what was said to somebody else, and no server is told the password itself.
            (Some(_), true) => ChannelBinding::Require,
            _ => ChannelBinding::Disable,
        });
        config
    }

    fn connect(&self) -> Result<(), StoreError> {
        self.hang_up();
        if self.access.password.is_some() && !self.access.address.keeps_a_password() && !self.access.insecure {
            return Err(StoreError::Unsafe { detail: "a password would go over a connection without TLS".to_owned() });
        }
        let runtime = tokio::runtime::Builder::new_current_thread()
            .enable_all()
            .build()
            .map_err(|error| StoreError::Away { detail: error.to_string() })?;
        let config = self.config();
        // Ten seconds for each host to take the connection, and some for who we are.
        let hosts = u32::try_from(self.access.address.hosts.len()).unwrap_or(1);
        let most = Duration::from_secs(5) + Duration::from_secs(10) * hosts;
        let limit = self.answer().clamp(LEAST_TO_CONNECT * 2, most);
        let line = wait(&runtime, async {
            let dialled = async {
                match self.access.address.tls {
                    true => self.dial(&config, tls::connector(self.access.roots.as_deref())?).await,
                    false => self.dial(&config, NoTls).await,
                }
            };
            tokio::time::timeout(limit, dialled).await
        });
        let client = line.map_err(|_| too_slow())??;
        *self.line.borrow_mut() = Some(Line { runtime, client });
        let checked = self.check_server();
        if checked.is_err() {
            self.hang_up();
        }
        checked
    }

    async fn dial<T: MakeTlsConnect<Socket, Stream: Send + 'static>>(
        &self,
        config: &Config,
        tls: T,
    ) -> Result<Client, StoreError> {
        let (client, mut connection) =
            config.connect(tls).await.map_err(|error| StoreError::Away { detail: told(&error) })?;
        let heard = self.heard.clone();
        tokio::spawn(async move {
            while let Some(Ok(message)) = poll_fn(|context| connection.poll_message(context)).await {
                match message {
                    AsyncMessage::Notification(_) => heard.notice.notify_one(),
                    // "canceling wait for synchronous replication": committed here, and perhaps nowhere else.
                    AsyncMessage::Notice(notice) if notice.message().contains("synchronous replication") => {
                        heard.in_doubt.store(true, Ordering::SeqCst);
                    }
                    _ => {}
                }
            }
            // Whoever waits for a notice finds that the line is dead.
            heard.notice.notify_one();
        });
        Ok(client)
    }

    fn check_server(&self) -> Result<(), StoreError> {
        let millis = self.patience.get().as_millis().max(1);
        // Every question goes by an index, and to a page of rows at most. The planner would look at a table that grew from nothing to a
        // million within a minute as if it were still empty, and read all of it each time; and what is
        // planned once is planned for good: planning what a change asks takes as long as all the rest of it.
        let settings = format!(
            "SET lock_timeout = {millis}; SET idle_in_transaction_session_timeout = {LEAST_WORD};
             SET default_transaction_isolation = 'read committed'; SET jit = off; SET plan_cache_mode = force_generic_plan;
             SET enable_seqscan = off; SET enable_hashjoin = off; SET enable_mergejoin = off; SET enable_bitmapscan = off; SET enable_sort = off; {}",
            self.greeting.borrow()
        );
        // Before anything that waits to be said.
        let row = self.ask_alone(async |client| {
            client.batch_execute(&settings).await?;
            client.query_one(CHECKS, &[]).await
        })?;
        let (commit, time, version, encoding): (&str, i64, i64, &str) =
            (row.try_get(0)?, row.try_get(1)?, row.try_get(2)?, row.try_get(3)?);
        if !["on", "remote_apply"].contains(&commit) {
            let detail = format!("its synchronous_commit is `{commit}`, so that it may forget what it acknowledged");
            return Err(StoreError::Unsafe { detail });
        }
        if version < 130_000 {
            return Err(StoreError::Unsafe { detail: "it is older than PostgreSQL 13".to_owned() });
        }
        if encoding != "UTF8" {
            return Err(StoreError::Unsafe { detail: format!("its encoding is {encoding}, not UTF8") });
        }
        let own = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_secs());
        self.clock_ahead.set(i64::try_from(own).unwrap_or(i64::MAX).saturating_sub(time));
        Ok(())
    }

    /// Whether the connection broke.
    fn is_broken(&self) -> bool {
        self.line.borrow().as_ref().is_none_or(|line| line.client.is_closed())
    }

    /// Takes in what came since the last question, the end of the line among it.
    fn take_in(&self) {
        if let Some(line) = self.line.borrow().as_ref() {
            wait(&line.runtime, async {
                // The first turn hears of it, the second reads it.
                for _ in 0..3 {
                    tokio::task::yield_now().await;
                }
            });
        }
    }

    /// Connects anew if the connection broke, for as long as its patience lasts: a database that fails over is away for some seconds.
    pub(super) fn mend(&self) -> Result<(), StoreError> {
        self.take_in();
        let began = Instant::now();
        while self.is_broken() {
            match self.connect() {
                Ok(()) => {}
                Err(StoreError::Away { .. }) if began.elapsed() < self.patience.get() => {
                    std::thread::sleep(Duration::from_millis(200));
                }
                Err(error) => return Err(error),
            }
        }
        Ok(())
    }

    /// Asks something, and waits for the answer. One that does not come in time breaks the connection: what was asked may still be
    /// done, as if the answer had been lost.
    fn ask_alone<T>(
        &self,
        what: impl AsyncFnOnce(&Client) -> Result<T, tokio_postgres::Error>,
    ) -> Result<T, StoreError> {
        let asked = {
            let line = self.line.borrow();
            let line = line.as_ref().ok_or_else(broken)?;
            let answer = self.answer();
            wait(&line.runtime, async { tokio::time::timeout(answer, what(&line.client)).await })
        };
        match asked {
            Ok(answer) => Ok(answer?),
            Err(_) => {
                self.hang_up();
                Err(too_slow())
            }
        }
    }

    fn prepared(&self, sql: &str) -> Result<Statement, StoreError> {
        if let Some(statement) = self.statements.borrow().get(sql) {
            return Ok(statement.clone());
        }
        let statement = self.ask_alone(async |client| client.prepare(sql).await)?;
        let mut statements = self.statements.borrow_mut();
        if statements.len() >= MOST_STATEMENTS {
            statements.clear();
        }
        statements.insert(sql.to_owned(), statement.clone());
        Ok(statement)
    }

    /// Connects anew if the line broke, where no transaction was lost with it. Statements are prepared after that: they belong to a line.
    fn revive(&self) -> Result<(), StoreError> {
        if !self.in_transaction.get() && self.is_broken() { self.connect() } else { Ok(()) }
    }

    /// Does once more what did nothing because the line was dead, as is seldom known before something is said on it.
    fn again<T>(&self, what: impl Fn() -> Result<T, StoreError>) -> Result<T, StoreError> {
        let is_alone = !self.in_transaction.get();
        self.revive()?;
        match what() {
            Err(StoreError::Away { .. }) if is_alone && self.is_broken() => {
                self.mend()?;
                what()
            }
            done => done,
        }
    }

    /// Rows that a question gives. (Nothing that changes rows is asked in this way outside of a transaction.)
    pub(super) fn rows(&self, sql: &str, values: &[&(dyn ToSql + Sync)]) -> Result<Vec<Row>, StoreError> {
        self.again(|| {
            let statement = self.prepared(sql)?;
            self.ask(async |client| client.query(&statement, values).await)
        })
    }

    /// Rows that several questions give, all asked in one round trip; in a transaction they are of one moment.
    pub(super) fn rows_of<const N: usize>(
        &self,
        questions: [(&str, &[&(dyn ToSql + Sync)]); N],
    ) -> Result<[Vec<Row>; N], StoreError> {
        self.rows_between(["", ""], questions)
    }

    /// The same with something said before them and behind them in the same round trip.
    fn rows_between<const N: usize>(
        &self,
        [before, behind]: [&str; 2],
        questions: [(&str, &[&(dyn ToSql + Sync)]); N],
    ) -> Result<[Vec<Row>; N], StoreError> {
        let answers = self.again(|| {
            let mut statements = Vec::with_capacity(N);
            for (sql, _) in &questions {
                statements.push(self.prepared(sql)?);
            }
            self.ask(async |client| {
                let say = async |sql: &str| if sql.is_empty() { Ok(()) } else { client.batch_execute(sql).await };
                let asked =
                    statements.iter().zip(&questions).map(|(statement, (_, values))| client.query(statement, values));
                // They are sent in this order, each without waiting for the one before.
                let (begun, answers, ended) = join3(say(before), join_all(asked), say(behind)).await;
                begun?;
                ended?;
                answers.into_iter().collect::<Result<Vec<_>, _>>()
            })
        })?;
        answers.try_into().map_err(|_| StoreError::Damaged { detail: "an answer is missing".to_owned() })
    }

    pub(super) fn maybe(&self, sql: &str, values: &[&(dyn ToSql + Sync)]) -> Result<Option<Row>, StoreError> {
        Ok(self.rows(sql, values)?.into_iter().next())
    }

    pub(super) fn one(&self, sql: &str, values: &[&(dyn ToSql + Sync)]) -> Result<Row, StoreError> {
        self.maybe(sql, values)?.ok_or_else(|| StoreError::Damaged { detail: "a row is missing".to_owned() })
    }

    /// Gives rows to `visit` as they come, so that a million of them take no memory.
    pub(super) fn each(
        &self,
        sql: &str,
        visit: &mut dyn FnMut(&Row) -> Result<(), StoreError>,
    ) -> Result<(), StoreError> {
        self.revive()?;
        let statement = self.prepared(sql)?;
        let none: [&(dyn ToSql + Sync); 0] = [];
        let mut rows = Box::pin(self.ask(async |client| client.query_raw(&statement, none).await)?);
        loop {
            // Some hundred at a time, so that waiting is begun seldom.
            let some = self.ask(async |_| {
                let mut some = Vec::new();
                while some.len() < MANY_ROWS {
                    match rows.try_next().await? {
                        Some(row) => some.push(row),
                        None => break,
                    }
                }
                Ok(some)
            })?;
            for row in &some {
                visit(row)?;
            }
            // One that has ended must not be asked again.
            if some.len() < MANY_ROWS {
                return Ok(());
            }
        }
    }

    /// Runs a statement; gives how many rows it touched.
    pub(super) fn run(&self, sql: &str, values: &[&(dyn ToSql + Sync)]) -> Result<usize, StoreError> {
        self.revive()?;
        let statement = self.prepared(sql)?;
        let count = self.ask(async |client| client.execute(&statement, values).await)?;
        Ok(usize::try_from(count).unwrap_or(usize::MAX))
    }

    /// Runs statements that have no values, in one round trip.
    pub(super) fn batch(&self, sql: &str) -> Result<(), StoreError> {
        self.revive()?;
        self.ask(async |client| client.batch_execute(sql).await)
    }

    /// Waits for a notice, but not longer than `at_most`. It tells nothing: the number is the truth.
    pub(super) fn wait_for_notice(&self, at_most: Duration) -> Result<(), StoreError> {
        let line = self.line.borrow();
        let line = line.as_ref().ok_or_else(broken)?;
        // Time that passes is no trouble.
        let _ = wait(&line.runtime, async { tokio::time::timeout(at_most, self.heard.notice.notified()).await });
        if line.client.is_closed() { Err(broken()) } else { Ok(()) }
    }
}

fn broken() -> StoreError {
    StoreError::Away { detail: "the connection broke".to_owned() }
}

fn too_slow() -> StoreError {
    StoreError::Away { detail: "it does not answer in time".to_owned() }
}

/// A column's value.
pub(super) fn get<'r, T: FromSql<'r>>(row: &'r Row, at: usize) -> Result<T, StoreError> {
    Ok(row.try_get(at)?)
}
