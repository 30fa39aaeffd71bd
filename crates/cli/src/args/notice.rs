use clap::Subcommand;

#[derive(Debug, Subcommand)]
pub(crate) enum NoticeCommand {
    /// What a web service was told, or is to be told, the newest first.
    List {
        /// How many at the most.
        #[arg(long, value_name = "N", default_value_t = 50)]
        last: usize,
    },
    /// Have the web service told that this is a trial; a desk sends it.
    Test,
    /// The public key by which it checks who tells it, as a JWK.
    Key,
}
