//! `store` as types.

use std::path::PathBuf;

use clap::Subcommand;

use super::Because;

#[derive(Debug, Subcommand)]
pub(crate) enum StoreCommand {
    /// What the store is, how large, and what there is to know of its database.
    Show,
    /// Move the ward into a database, or back into a file: everything is copied and compared, and the old place takes no change from
    /// the beginning on. If it is interrupted, the same call goes on.
    Copy {
        /// `postgresql://...`, or `file` for `ward.db` in the ward's folder. What is there must be empty.
        #[arg(long, value_name = "PLACE", required_unless_present = "stop", conflicts_with = "stop")]
        to: Option<String>,
        /// A file with the password of the role in that database; without it PGPASSFILE is looked into.
        #[arg(long, value_name = "FILE", requires = "to")]
        to_password_file: Option<PathBuf>,
        /// Give up a move that is not finished: the ward takes changes again where it is.
        #[arg(long)]
        stop: bool,
        /// Do not ask.
        #[arg(long)]
        yes: bool,
    },
    /// Write all that the ward knows into one sealed file, as it is at one moment, while others go on writing.
    ///
    /// It is sealed to a passphrase of its own or to the key of a certificate. With --whole it holds the ward's settings, policies and
    /// locked keys too: with the passphrases, that is the ward.
    Backup {
        /// The file to make; one that exists is left as it is.
        #[arg(long, value_name = "FILE")]
        out: PathBuf,
        /// Seal it to the key of this certificate (p256 or p384), PEM or DER; whoever puts it back needs the private key.
        #[arg(long, value_name = "FILE", conflicts_with = "backup_passphrase_file")]
        to_cert: Option<PathBuf>,
        /// A file with the backup's passphrase; without it and --to-cert the terminal is asked.
        #[arg(long, env = "TIDY_WARDEN_BACKUP_PASSPHRASE_FILE", value_name = "FILE", hide_env_values = true)]
        backup_passphrase_file: Option<PathBuf>,
        /// The ward's settings, policies and locked keys too.
        #[arg(long)]
        whole: bool,
    },
    /// Put the ward back from a backup, into its folder; with one that was made with --whole also into an empty folder.
    ///
    /// What stands there stays beside it as ward.db.before. A backup that is older than what is there, or than what the guard has seen, is
    /// only put back with --anyway; then nobody is let in until a person says `store accept`, after what was revoked since was revoked again.
    Restore {
        /// The backup.
        file: PathBuf,
        /// The private key of the certificate that it was made for, PEM, locked or not.
        #[arg(long, value_name = "FILE")]
        key: Option<PathBuf>,
        /// A file with the backup's passphrase, or that of the private key; without it the terminal is asked.
        #[arg(long, env = "TIDY_WARDEN_BACKUP_PASSPHRASE_FILE", value_name = "FILE", hide_env_values = true)]
        backup_passphrase_file: Option<PathBuf>,
        /// Where the store is to be, if not where the settings say: `postgresql://...` of an empty database, or `file`.
        #[arg(long, value_name = "PLACE")]
        to: Option<String>,
        /// A file with the password of the role in that database; without it PGPASSFILE is looked into.
        #[arg(long, value_name = "FILE", requires = "to")]
        to_password_file: Option<PathBuf>,
        /// Although it goes back in time.
        #[arg(long)]
        anyway: bool,
        /// Do not ask.
        #[arg(long)]
        yes: bool,
        #[command(flatten)]
        because: Because,
    },
    /// Look for damage: the engine's own check, every row read, the audit record followed, the tables held against it.
    Check,
    /// Write the roles and rights of the database as SQL: for people, guards, desks, readers, and each post.
    ///
    /// It is run by somebody who may make roles there, and again after each `post add` and `post retire`.
    Roles {
        /// The file to write; one that exists is replaced.
        #[arg(long, value_name = "FILE")]
        out: PathBuf,
    },
    /// Say that a store which ends earlier than what the guard or the desk has seen is the one that counts.
    ///
    /// What was revoked, held or blocked after its end is no longer known: do that again first. Until this is said, a running
    /// guard lets nobody new connect.
    Accept {
        /// How far a guard at a post has seen the record, as its log says: NUMBER:HASH. Without it, the guard and the desk of this folder.
        #[arg(long, value_name = "NUMBER:HASH", value_parser = super::seen)]
        seen: Option<(i64, [u8; 32])>,
        /// Do not ask.
        #[arg(long)]
        yes: bool,
        #[command(flatten)]
        because: Because,
    },
}
