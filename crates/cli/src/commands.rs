//! One file a command: arguments in, one operation, its result rendered.

mod admission;
pub(crate) mod audit;
pub(crate) mod authority;
mod changes;
pub(crate) mod claim;
pub(crate) mod credential;
pub(crate) mod crl;
pub(crate) mod desk;
pub(crate) mod device;
mod due;
pub(crate) mod enroll;
mod errand;
mod finding;
mod group;
pub(crate) mod guard;
mod hold;
pub(crate) mod import;
pub(crate) mod init;
mod job;
mod join;
mod key;
mod notice;
mod outfit;
mod owner;
mod passphrases;
mod pick;
pub(crate) mod policy;
mod post;
mod probe;
mod reflex;
pub(crate) mod revoke;
mod rotation;
pub(crate) mod settings;
mod simulate;
mod store;
pub(crate) mod token;
mod topic_match;
mod watch;

use std::path::{Path, PathBuf};

use crate::args::{Cli, Command, OutfitCommand};
use crate::console::Console;
use crate::keys::Secrets;
use crate::passphrase::{self, Passphrase, Typed};
use crate::problem::{Exit, Problem};
use crate::ward::Ward;

/// What every command is given.
pub(crate) struct Context<'a> {
    pub(crate) console: &'a Console,
    pub(crate) dir: PathBuf,
    /// Whether the call itself names the ward's folder.
    pub(crate) is_ward_named: bool,
    pub(crate) passphrase_file: Option<PathBuf>,
    pub(crate) pin_file: Option<PathBuf>,
}

impl Context<'_> {
    pub(crate) fn ward(&self) -> Result<Ward, Problem> {
        let mut ward = crate::ward::open(&self.dir)?;
        if !ward.is_adopted {
            self.console.warn(format!(
                "{} says other things than the settings that were adopted for all machines, and these count: settings adopt",
                self.dir.join(crate::ward::SETTINGS).display()
            ));
        }
        enroll::recover(&mut ward, self.console)?;
        tidy_warden_ward::relock::tidy(&self.dir)?;
        crate::reserve::keep(&self.dir);
        Ok(ward)
    }

    /// The passphrase that opens `what`.
    pub(crate) fn passphrase(&self, what: &str) -> Result<Passphrase, Problem> {
        passphrase::get(self.passphrase_file.as_deref(), what, Typed::Once, self.console)
    }

    /// What opens the authorities' keys, asked for when it is needed.
    pub(crate) fn secrets(&self) -> Secrets<'_> {
        Secrets::new(self.console, self.passphrase_file.as_deref(), self.pin_file.as_deref())
    }

    pub(crate) fn passphrase_path(&self) -> Option<&Path> {
        self.passphrase_file.as_deref()
    }
}

/// Runs what the command line asks for.
pub(crate) fn run(cli: Cli, console: &Console) -> Result<Exit, Problem> {
    let context = Context {
        console,
        dir: cli.ward,
        is_ward_named: cli.is_ward_named,
        passphrase_file: cli.passphrase_file,
        pin_file: cli.pin_file,
    };
    if console.is_csv() && !is_list(&cli.command) {
        return Err(Problem::usage("this command gives no list, and only lists have a form as CSV")
            .next("--format json, or jsonl"));
    }
    let urgent = |act: &dyn Fn() -> Result<Exit, Problem>| crate::reserve::urgent(&context.dir, console, act);
    match cli.command {
        Command::Init(args) => init::run(&context, &args),
        Command::Authority(command) => authority::run(&context, &command),
        Command::Settings(command) => settings::run(&context, &command),
        Command::Passphrase(command) => passphrases::run(&context, &command),
        Command::Device(command) => device::run(&context, command),
        Command::Group(command) => group::run(&context, &command),
        Command::Admission(command) => admission::run(&context, &command),
        Command::Enroll(args) => enroll::run(&context, &args),
        Command::Outfit(OutfitCommand::Refresh(args)) => enroll::refresh(&context, &args),
        Command::Outfit(OutfitCommand::Show(args)) => outfit::show(&context, &args),
        Command::Credential(command) => credential::run(&context, command),
        Command::Key(command) => key::run(&context, &command),
        Command::Token(command) => token::run(&context, command),
        Command::Policy(command) => policy::run(&context, &command),
        Command::Guard(args) => guard::run(&context, &args),
        Command::Desk(args) => desk::run(&context, &args),
        Command::Join(args) => join::run(&context, &args),
        Command::Post(command) => post::run(&context, &command),
        Command::Probe(args) => probe::run(&context, &args),
        Command::Watch(args) => watch::run(&context, &args),
        Command::Owner(command) => owner::run(&context, &command),
        Command::Claim(command) => claim::run(&context, &command),
        Command::Due(args) => due::run(&context, &args),
        Command::Rotation(command) => rotation::run(&context, &command),
        Command::Errand(command) => errand::run(&context, &command),
        Command::Reflex(command) => reflex::run(&context, &command),
        Command::Notice(command) => notice::run(&context, &command),
        Command::Hold(args) => urgent(&|| hold::run(&context, hold::HoldAct::Hold, &args)),
        Command::Release(args) => hold::run(&context, hold::HoldAct::Release, &args),
        Command::Revoke(args) => urgent(&|| revoke::run(&context, &args)),
        Command::Crl(args) => urgent(&|| crl::run(&context, &args)),
        Command::Job(command) => job::run(&context, &command),
        Command::Audit(command) => audit::run(&context, &command),
        Command::Store(command) => store::run(&context, &command),
        Command::Simulate(args) => simulate::run(console, &args),
        Command::Demo(args) => crate::demo::run(console, &args),
        Command::TopicMatch(args) => Ok(topic_match::run(&args)),
    }
}

/// Whether a command gives a list, which can be written as CSV.
fn is_list(command: &Command) -> bool {
    use crate::args::{
        AdmissionCommand, AuditCommand, AuthorityCommand, CredentialCommand, DeviceCommand, GroupCommand, JobCommand,
        KeyCommand, PolicyCommand, PostCommand,
    };
    match command {
        Command::Device(command) => {
            matches!(command, DeviceCommand::List(_) | DeviceCommand::Retained(_) | DeviceCommand::Events { .. })
        }
        Command::Group(command) => matches!(command, GroupCommand::List),
        Command::Admission(command) => matches!(command, AdmissionCommand::List { .. }),
        Command::Authority(command) => matches!(command, AuthorityCommand::List),
        Command::Credential(command) => matches!(command, CredentialCommand::List { .. }),
        Command::Key(command) => matches!(command, KeyCommand::Blocked),
        Command::Policy(command) => matches!(command, PolicyCommand::Editions),
        Command::Job(command) => matches!(command, JobCommand::List { .. }),
        Command::Post(command) => matches!(command, PostCommand::List),
        Command::Due(_) => true,
        Command::Owner(command) => matches!(command, crate::args::OwnerCommand::List),
        Command::Claim(command) => matches!(command, crate::args::ClaimCommand::List),
        Command::Rotation(command) => matches!(command, crate::args::RotationCommand::List),
        Command::Errand(command) => matches!(command, crate::args::ErrandCommand::List(_)),
        Command::Notice(command) => matches!(command, crate::args::NoticeCommand::List { .. }),
        Command::Reflex(command) => {
            matches!(command, crate::args::ReflexCommand::List | crate::args::ReflexCommand::Test { .. })
        }
        Command::Audit(command) => matches!(command, AuditCommand::Log { .. }),
        _ => false,
    }
}
