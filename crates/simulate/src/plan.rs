//! From what each thing costs on two cores to what a fleet needs, on paper.
//!
//! What can be multiplied (guards) is counted in machines; what cannot be (the lock under which changes are made, the lock under which
//! counts are written) is told as the share of its time that is taken. The first that is full is the fleet's limit.

/// What each thing costs, measured. Times are in seconds.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Costs {
    /// CPU of a full TLS handshake with the device's certificate, the guard's side.
    pub handshake: f64,
    /// CPU of a CONNECT behind it, the store's part within this process included.
    pub connect: f64,
    /// How long the store is asked for each CONNECT, by whichever connection to it.
    pub look_up: f64,
    /// CPU of a message that passes the guard and is answered.
    pub message: f64,
    /// Memory of a session, in octets.
    pub session: f64,
    /// How long writing that a credential was used holds up changes.
    pub usage: f64,
    /// How long a change of one device holds up all other changes.
    pub change: f64,
    /// The same for the enrolment of one device, which is three changes.
    pub enrolment: f64,
    /// CPU of bulk enrolment, a device.
    pub row: f64,
    /// Room of a device with its certificate in the store, in octets.
    pub room: f64,
    /// How long each guard works on a change of one device.
    pub feed: f64,
    /// How long a device's count, as it is written now and then, holds up all other counts.
    pub count: f64,
}

/// What a fleet does.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Habits {
    /// The share of devices that connect within an hour.
    pub connecting: f64,
    /// The share of devices that speak within a minute.
    pub speaking: f64,
    /// How many days a certificate is used.
    pub life_days: f64,
    /// The share of devices of which something is changed within a day, renewals apart.
    pub changing: f64,
    /// Within how many seconds everybody is to be back after an outage.
    pub back_within: f64,
}

impl Default for Habits {
    /// One in a hundred connects within an hour, one in ten speaks within a minute.
    fn default() -> Self {
        Self { connecting: 0.01, speaking: 0.1, life_days: 90.0, changing: 0.01, back_within: 900.0 }
    }
}

/// A machine of those on which guards run.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Machine {
    /// Its cores.
    pub cores: f64,
    /// How much of them may be busy on an ordinary day.
    pub busy: f64,
    /// How much of its memory sessions may take, in octets.
    pub memory: f64,
}

impl Default for Machine {
    /// Two cores and 24 GiB, of which sessions may have 16.
    fn default() -> Self {
        Self { cores: 2.0, busy: 0.5, memory: 16.0 * f64::from(1 << 30) }
    }
}

/// What may be full first.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Limit {
    /// The lock of the record's end, under which changes are made one after another.
    Changes,
    /// The lock under which counts are written.
    Counts,
    /// What each guard has to do for what changes anywhere.
    Feed,
    /// One broker behind all guards.
    Broker,
}

impl Limit {
    /// Its name.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Changes => "changes",
            Self::Counts => "counts",
            Self::Feed => "feed",
            Self::Broker => "broker",
        }
    }
}

/// What a fleet of one size needs.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Needs {
    /// How many devices it has.
    pub devices: f64,
    /// Connects a second.
    pub connects: f64,
    /// Messages a second.
    pub messages: f64,
    /// Changes a second, enrolments apart.
    pub changes: f64,
    /// Enrolments a second.
    pub enrolments: f64,
    /// Cores of guards on an ordinary day.
    pub cores: f64,
    /// Memory of all sessions, in octets.
    pub memory: f64,
    /// Connections to the store that look-ups keep busy while everybody comes back.
    pub look_ups_back: f64,
    /// Cores that bring everybody back after an outage in time.
    pub cores_back: f64,
    /// Machines for guards: the most that one of these three asks for.
    pub machines: f64,
    /// Room in the store, in octets.
    pub room: f64,
    /// Shares of the time of what cannot be multiplied: 1 is full.
    pub change_lock: f64,
    /// The same while everybody comes back after an outage.
    pub change_lock_back: f64,
    /// The share of the lock of counts.
    pub count_lock: f64,
    /// The share of one core that each guard has to give to the feed.
    pub feed: f64,
    /// The share of what one broker passes on.
    pub broker: f64,
    /// Which of them is full first, and how full it is.
    pub first: (Limit, f64),
}

const DAY: f64 = 86_400.0;

/// What a broker passes on in a second, where none was measured: about what one on two cores does with answers and many publishers.
pub const BROKER: f64 = 50_000.0;

/// What `devices` need that have these habits, if each thing costs this much; `broker` is how many messages a second one broker passes
/// on.
#[must_use]
pub fn needs(devices: f64, costs: &Costs, habits: &Habits, machine: &Machine, broker: f64) -> Needs {
    let connects = devices * habits.connecting / 3600.0;
    let messages = devices * habits.speaking / 60.0;
    let enrolments = devices / (habits.life_days * DAY);
    let changes = devices * habits.changing / DAY;
    let enter = costs.handshake + costs.connect;
    let cores = messages * costs.message + connects * enter;
    let memory = devices * costs.session;
    let cores_back = devices / habits.back_within * enter;
    let by_core = (cores / (machine.cores * machine.busy)).max(cores_back / machine.cores);
    let machines = by_core.max(memory / machine.memory).ceil().max(1.0);
    let change_lock = changes * costs.change + enrolments * costs.enrolment + connects * costs.usage;
    let count_lock = messages * costs.count;
    let feed = (changes + enrolments) * costs.feed;
    let broker = messages / broker;
    let first = [(Limit::Counts, count_lock), (Limit::Feed, feed), (Limit::Broker, broker)]
        .into_iter()
        .fold((Limit::Changes, change_lock), |most, one| if one.1 > most.1 { one } else { most });
    Needs {
        devices,
        connects,
        messages,
        changes,
        enrolments,
        cores,
        memory,
        look_ups_back: devices / habits.back_within * costs.look_up,
        cores_back,
        machines,
        room: devices * costs.room,
        change_lock,
        change_lock_back: change_lock + devices / habits.back_within * costs.usage,
        count_lock,
        feed,
        broker,
        first,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const COSTS: Costs = Costs {
        handshake: 0.001,
        connect: 0.001,
        look_up: 0.0005,
        message: 0.000_01,
        session: 32.0 * 1024.0,
        usage: 0.000_05,
        change: 0.001,
        enrolment: 0.003,
        row: 0.0001,
        room: 2000.0,
        feed: 0.000_1,
        count: 0.000_01,
    };

    fn needs_of(devices: f64, costs: &Costs, broker: f64) -> Needs {
        needs(devices, costs, &Habits::default(), &Machine::default(), broker)
    }

    fn of(devices: f64) -> Needs {
        needs_of(devices, &COSTS, BROKER)
    }

    fn near(one: f64, other: f64) -> bool {
        (one - other).abs() <= other.abs() * 1e-9
    }

    #[test]
    fn a_million_is_added_up() {
        let needs = of(1e6);
        assert!(near(needs.connects, 1e6 * 0.01 / 3600.0), "{needs:?}");
        assert!(near(needs.messages, 1e5 / 60.0));
        assert!(near(needs.enrolments, 1e6 / 90.0 / 86_400.0));
        assert!(near(needs.cores, 1e5 / 60.0 * 1e-5 + 1e4 / 3600.0 * 0.002));
        assert!(near(needs.cores_back, 1e6 / 900.0 * 0.002));
        assert!(near(needs.look_ups_back, 1e6 / 900.0 * 0.0005));
        assert!(near(needs.memory, 1e6 * 32.0 * 1024.0));
        // Memory asks for 1.9 machines, the return of everybody for 1.1, an ordinary day for 0.02.
        assert!(near(needs.machines, 2.0));
        assert!(near(
            needs.change_lock,
            1e4 / 86_400.0 * 0.001 + 1e6 / 90.0 / 86_400.0 * 0.003 + 1e4 / 3600.0 * 0.000_05
        ));
        assert!(near(needs.change_lock_back, needs.change_lock + 1e6 / 900.0 * 0.000_05));
        assert_eq!(needs.first, (Limit::Broker, needs.broker));
    }

    #[test]
    fn the_first_limit_is_the_fullest() {
        // Messages of 100 million: 166,667 a second, 1.7 times the lock of counts and 3.3 brokers.
        let needs = of(1e8);
        assert!(near(needs.count_lock, 1e7 / 60.0 * 0.000_01) && near(needs.broker, 1e7 / 60.0 / 50_000.0));
        let first = |costs: &Costs, broker| needs_of(1e8, costs, broker).first.0;
        assert_eq!(first(&Costs { change: 1.0, ..COSTS }, 1e9), Limit::Changes);
        assert_eq!(first(&COSTS, 1e9), Limit::Counts);
        assert_eq!(first(&COSTS, 1e3), Limit::Broker);
        assert_eq!(first(&Costs { feed: 1.0, ..COSTS }, 1e9), Limit::Feed);
    }
}
