use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};

/// What a post does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum RoleArg {
    /// It lets devices connect.
    Guard,
    /// It takes the requests of devices.
    Desk,
}

#[derive(Debug, Subcommand)]
pub(crate) enum PostCommand {
    /// Add a post, and write a folder with all that its machine needs: its own key and certificate, the store's address, its own role
    /// there; no authority's key, no policy and no passphrase of the ward.
    Add(AddPostArgs),
    /// Guards and desks, each with what it said of itself last.
    List,
    /// Give a guard, a desk or a post its next certificate, for the same key; a desk that runs with renew_servers = true does so by
    /// itself when a third of the life is left.
    Renew {
        /// Which; `guard` and `desk` are those in the ward's own folder. Without one, all whose next is due.
        name: Option<String>,
        #[command(flatten)]
        because: super::Because,
    },
    /// End a post for good: its role in the database, and its certificate.
    Retire {
        /// The post.
        name: String,
        /// Do not ask.
        #[arg(long)]
        yes: bool,
        #[command(flatten)]
        because: super::Because,
    },
}

#[derive(Debug, Args)]
pub(crate) struct AddPostArgs {
    /// Its name; one that was never given before.
    pub(crate) name: String,
    /// What it does.
    #[arg(long, value_enum)]
    pub(crate) role: RoleArg,
    /// The host name or IP address at which devices reach it.
    #[arg(long)]
    pub(crate) host: String,
    /// The folder to make.
    #[arg(long, value_name = "DIR")]
    pub(crate) out: PathBuf,
    /// A file with a passphrase for the post's own key; without it the terminal is asked.
    #[arg(long, env = "TIDY_WARDEN_POST_PASSPHRASE_FILE", value_name = "FILE", hide_env_values = true)]
    pub(crate) post_passphrase_file: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) because: super::Because,
}
