//! The command line as types. No work is done here.

mod credential;
mod device;
mod policy;
mod run;

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand};

pub(crate) use credential::{CredentialCommand, CrlArgs, EnrollArgs, RevokeArgs, TokenCommand};
pub(crate) use device::{AddArgs, DeviceCommand, EditArgs, ImportArgs, ListArgs};
pub(crate) use policy::{AdoptArgs, AskArgs, AskedAct, CheckArgs, PolicyCommand};
pub(crate) use run::{DemoArgs, GuardArgs, LogForm, TopicMatchArgs};

use crate::console::Format;

/// The commands in the groups and the order of the work, which the generated list cannot show.
const COMMANDS: &str = "\
prepare
  init       make a ward: settings, authorities, store, a place for policies
  authority  see the ward's certificate authorities, and hand their certificates out
  settings   check ward.toml
register
  device     list devices and keep what is known of them
credentials
  enroll     give a device its certificate: from its request (CSR), or with a key made here
  credential see the certificates of the fleet, and whose one is
  token      make and read tokens that stand for a device
policy
  policy     check, adopt and question policies
run
  guard      stand between the devices and the MQTT broker and let pass what policy allows
keep true
  revoke     end a device's certificates and tokens, everywhere and at once
  crl        sign and write an authority's current certificate revocation list
see
  audit      read the audit record and prove that it is whole
try
  demo       see a device's whole life in a made-up fleet, with nothing installed

Exit codes: 0 done or yes, 1 failed, 2 usage, 3 refused or no, 4 not found, 5 done in part.";

/// The heading of options that every command takes.
const EVERYWHERE: &str = "For every command";

const TEMPLATE: &str = "{about-with-newline}\n{usage-heading} {usage}{after-help}\n\nOptions:\n{options}";

/// Credentials and policies for a fleet of devices: who each one is, what it may say, and that it is out when it is lost.
#[derive(Debug, Parser)]
#[command(name = "tidy-warden", version, after_help = COMMANDS, help_template = TEMPLATE)]
#[command(disable_help_subcommand = true)]
pub(crate) struct Cli {
    /// The ward's folder.
    #[arg(
        long,
        global = true,
        env = "TIDY_WARDEN_WARD",
        default_value = ".",
        value_name = "DIR",
        hide_env_values = true,
        help_heading = EVERYWHERE
    )]
    pub(crate) ward: PathBuf,
    /// The form of results on standard output.
    #[arg(long, global = true, value_enum, default_value = "table", help_heading = EVERYWHERE)]
    pub(crate) format: Format,
    /// Leave out notes on standard error.
    #[arg(long, global = true, help_heading = EVERYWHERE)]
    pub(crate) quiet: bool,
    /// A file with the passphrase that opens the ward's keys; without it the terminal is asked.
    #[arg(long, global = true, env = "TIDY_WARDEN_PASSPHRASE_FILE", value_name = "FILE", hide_env_values = true, help_heading = EVERYWHERE)]
    pub(crate) passphrase_file: Option<PathBuf>,
    #[command(subcommand)]
    pub(crate) command: Command,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Make a ward: settings, authorities, store, a place for policies.
    Init(InitArgs),
    /// See the ward's certificate authorities, and hand their certificates out.
    #[command(subcommand)]
    Authority(AuthorityCommand),
    /// Check ward.toml.
    #[command(subcommand)]
    Settings(SettingsCommand),
    /// List devices and keep what is known of them.
    #[command(subcommand)]
    Device(DeviceCommand),
    /// Give a device its certificate: from its request (CSR), or with a key made here.
    Enroll(EnrollArgs),
    /// See the certificates of the fleet, and whose one is.
    #[command(subcommand)]
    Credential(CredentialCommand),
    /// Make and read tokens that stand for a device.
    #[command(subcommand)]
    Token(TokenCommand),
    /// Check, adopt and question policies.
    #[command(subcommand)]
    Policy(PolicyCommand),
    /// Stand between the devices and the MQTT broker and let pass what policy allows.
    Guard(GuardArgs),
    /// End a device's certificates and tokens, everywhere and at once.
    Revoke(RevokeArgs),
    /// Sign and write an authority's current certificate revocation list.
    Crl(CrlArgs),
    /// Read the audit record and prove that it is whole.
    #[command(subcommand)]
    Audit(AuditCommand),
    /// See a device's whole life in a made-up fleet, with nothing installed.
    Demo(DemoArgs),
    #[command(hide = true)]
    TopicMatch(TopicMatchArgs),
}

#[derive(Debug, Args)]
pub(crate) struct InitArgs {
    /// The ward's name, for people: 1 to 40 characters.
    #[arg(long)]
    pub(crate) name: String,
    /// The host name or IP address at which devices reach the guard and the desk.
    #[arg(long)]
    pub(crate) host: Option<String>,
    /// Your IANA private enterprise number, for urn:dev:org: names.
    #[arg(long, value_name = "NUMBER", value_parser = clap::value_parser!(u32).range(1..))]
    pub(crate) enterprise_number: Option<u32>,
    /// A passphrase file for the root's key alone.
    #[arg(long, value_name = "FILE")]
    pub(crate) root_passphrase_file: Option<PathBuf>,
    /// A passphrase file for the guard's and the desk's own TLS keys alone.
    #[arg(long, value_name = "FILE")]
    pub(crate) guard_passphrase_file: Option<PathBuf>,
    /// A ward for rehearsals: its clock can be set, its guard stays on loopback, and its certificates say so.
    #[arg(long)]
    pub(crate) rehearsal: bool,
}

#[derive(Debug, Subcommand)]
pub(crate) enum AuthorityCommand {
    /// All authorities.
    List,
    /// What a person compares: subject, key, fingerprint, ends, and how many certificates it signed.
    Show {
        /// The authority, as `authority list` names it.
        authority: String,
    },
    /// Write root.pem and issuing.pem (all issuing certificates) into a folder.
    Export {
        /// The folder; made if it does not exist.
        #[arg(long, value_name = "DIR")]
        out: PathBuf,
    },
}

#[derive(Debug, Subcommand)]
pub(crate) enum SettingsCommand {
    /// Find every mistake in ward.toml in one pass.
    Check,
}

#[derive(Debug, Subcommand)]
pub(crate) enum AuditCommand {
    /// Entries, newest last.
    Log {
        /// Only the last N entries.
        #[arg(long, value_name = "N")]
        last: Option<i64>,
        /// Only entries about this subject, such as a device's id.
        #[arg(long, value_name = "NAME")]
        subject: Option<String>,
    },
    /// Check that no entry was changed, removed or put elsewhere.
    Verify,
}

/// The written reason of a change.
#[derive(Debug, Args)]
pub(crate) struct Because {
    /// Why; kept in the audit record.
    #[arg(long, value_name = "TEXT")]
    pub(crate) because: Option<String>,
}

impl Because {
    pub(crate) fn text(&self) -> Option<&str> {
        self.because.as_deref()
    }
}

/// Splits `NAME=VALUE`.
pub(crate) fn pair(text: &str) -> Result<(String, String), String> {
    match text.split_once('=') {
        Some((name, value)) if !name.is_empty() => Ok((name.to_owned(), value.to_owned())),
        _ => Err("expected NAME=VALUE".to_owned()),
    }
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    use super::*;

    #[test]
    fn the_command_line_is_consistent_and_its_help_names_every_command() {
        let command = Cli::command();
        command.clone().debug_assert();
        let shown: Vec<&str> =
            COMMANDS.lines().filter_map(|line| line.strip_prefix("  ")?.split_whitespace().next()).collect();
        let known: Vec<&str> =
            command.get_subcommands().filter(|each| !each.is_hide_set()).map(clap::Command::get_name).collect();
        assert_eq!(shown, known);
    }
}
