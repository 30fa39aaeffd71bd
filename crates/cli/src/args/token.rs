//! `token` and `key`.

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};

use super::Because;

#[derive(Debug, Subcommand)]
pub(crate) enum TokenCommand {
    /// Sign a token for a device and write it, alone, to standard output. It is not kept.
    Issue(Box<IssueArgs>),
    /// Say what a token says, and what is odd about it, without believing it. It needs no ward.
    Read(ReadArgs),
    /// Judge a token as the guard would at this moment, with the reason: exit 0 or 3.
    Verify(VerifyArgs),
    /// Take tokens no more that are not over: one, all of a key, or all of a device that were made before a moment.
    Block(BlockTokenArgs),
    /// List what is blocked. An entry is forgotten when the last token that it can meet has ended.
    Blocked,
    /// The keys with which the ward signs tokens.
    #[command(subcommand)]
    Signer(SignerCommand),
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum TokenForm {
    /// JSON Web Token (RFC 7519): text.
    Jwt,
    /// CBOR Web Token (RFC 8392): a third shorter, and not text.
    Cwt,
}

#[derive(Debug, Args)]
pub(crate) struct IssueArgs {
    /// The device; its kind must have token_login = true.
    #[arg(required_unless_present = "condition")]
    pub(crate) device: Option<String>,
    /// A token for each device for which this condition holds, into --out.
    #[arg(long = "where", value_name = "CONDITION", conflicts_with_all = ["device", "key", "bind"], requires = "out")]
    pub(crate) condition: Option<String>,
    /// How many devices you expect that to be; asked for without it. Another number refuses it whole.
    #[arg(long, value_name = "N", requires = "condition")]
    pub(crate) count: Option<u64>,
    /// How long it lasts, such as 8h; at most the kind's token_life, or own_token_life with --key.
    #[arg(long = "for", value_name = "LENGTH", default_value = "1h")]
    pub(crate) life: String,
    /// From when on it counts; without it, from now on.
    #[arg(long, value_name = "TIME")]
    pub(crate) not_before: Option<String>,
    /// Whom it is for, if not for the guard.
    #[arg(long, value_name = "TEXT")]
    pub(crate) audience: Option<String>,
    /// What it may do of what its device may, in the words of the policies: 'publish FILTER', 'subscribe FILTER', 'connect as ID'. May stand
    /// several times. Such a token opens clean sessions as DEVICE:ANYTHING, unless it names another client identifier.
    #[arg(long, value_name = "ACT")]
    pub(crate) scope: Vec<String>,
    /// It opens nothing but over a connection that shows this: `certificate`, which is the device's newest, or the name of a registered key.
    #[arg(long, value_name = "certificate|KID", allow_hyphen_values = true)]
    pub(crate) bind: Option<String>,
    /// Sign with this key, which the device shares with the ward, and not with the ward's own.
    #[arg(long, value_name = "KID", allow_hyphen_values = true)]
    pub(crate) key: Option<String>,
    /// How it is written.
    #[arg(long = "as", value_enum, default_value = "jwt")]
    pub(crate) form: TokenForm,
    /// Write it into this file, which only its owner can read and must not exist; several as CSV, or as JSON Lines if it ends in .jsonl.
    #[arg(long, value_name = "FILE")]
    pub(crate) out: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) because: Because,
}

#[derive(Debug, Args)]
pub(crate) struct ReadArgs {
    /// The file with the token; without it, standard input is read.
    #[arg(long, value_name = "FILE")]
    pub(crate) file: Option<PathBuf>,
    /// Where it does not belong: everybody who lists processes would see it.
    #[arg(hide = true)]
    pub(crate) token: Option<String>,
}

#[derive(Debug, Args)]
pub(crate) struct VerifyArgs {
    /// The file with the token; without it, standard input is read.
    #[arg(long, value_name = "FILE")]
    pub(crate) file: Option<PathBuf>,
    /// The user name that it is shown with; without it, the device that it says it is of.
    #[arg(long, value_name = "DEVICE", conflicts_with = "jwks")]
    pub(crate) device: Option<String>,
    /// The certificate that the connection shows, in PEM or DER; for tokens that are bound.
    #[arg(long, value_name = "FILE")]
    pub(crate) cert: Option<PathBuf>,
    /// Judge without a ward, by this JWK set: signature, type, parties and times, and nothing that only the ward knows.
    #[arg(long, value_name = "FILE", requires_all = ["audience", "issuer"])]
    pub(crate) jwks: Option<PathBuf>,
    /// Who must stand in its aud, without a ward.
    #[arg(long, value_name = "TEXT", requires = "jwks")]
    pub(crate) audience: Option<String>,
    /// Who must stand in its iss, without a ward.
    #[arg(long, value_name = "TEXT", requires = "jwks")]
    pub(crate) issuer: Option<String>,
    /// Where it does not belong: everybody who lists processes would see it.
    #[arg(hide = true)]
    pub(crate) token: Option<String>,
}

#[derive(Debug, Args)]
pub(crate) struct BlockTokenArgs {
    /// The device whose tokens are blocked that were made before --before, whoever signed them.
    #[arg(requires = "before")]
    pub(crate) device: Option<String>,
    /// The file with the token; `-` is standard input.
    #[arg(long, value_name = "FILE", conflicts_with_all = ["device", "jti", "key"])]
    pub(crate) token: Option<PathBuf>,
    /// The name of the token, as the record has it: of one that the ward signed, or with --key of one of that key.
    #[arg(long, value_name = "JTI", conflicts_with = "device", allow_hyphen_values = true)]
    pub(crate) jti: Option<String>,
    /// All tokens of this key that were made until now, or with --jti that one.
    #[arg(long, value_name = "KID", conflicts_with = "device", allow_hyphen_values = true)]
    pub(crate) key: Option<String>,
    /// The moment before which the device's tokens were made: a time, or `now`.
    #[arg(long, value_name = "TIME", requires = "device")]
    pub(crate) before: Option<String>,
    /// Do not ask.
    #[arg(long)]
    pub(crate) yes: bool,
    #[command(flatten)]
    pub(crate) because: Because,
}

#[derive(Debug, Subcommand)]
pub(crate) enum SignerCommand {
    /// List them.
    List,
    /// Make another one, which signs from now on; tokens of those before are taken until these are retired.
    Add {
        /// The type of the key: p256 (ES256) or ed25519 (EdDSA).
        #[arg(long = "type", value_name = "TYPE", default_value = "p256")]
        key: String,
        /// Keep it on the PKCS#11 token with this label.
        #[arg(long, value_name = "LABEL")]
        hsm: Option<String>,
        #[command(flatten)]
        because: Because,
    },
    /// Take no token any more that this one signed: a guard ends their sessions within a second.
    Retire {
        /// Its name, or what it is called in tokens.
        #[arg(allow_hyphen_values = true)]
        signer: String,
        /// Do not ask.
        #[arg(long)]
        yes: bool,
        #[command(flatten)]
        because: Because,
    },
}

#[derive(Debug, Subcommand)]
pub(crate) enum KeyCommand {
    /// Give a device a key of its own to sign tokens with: a public one that it made, or one that it shares with the ward.
    Add(Box<AddKeyArgs>),
    /// List the keys of a device's own.
    List {
        /// The device; without it, all keys of all devices.
        device: Option<String>,
    },
    /// End a key: every token that it signed ends at once, and their sessions within a second.
    Retire {
        /// The device.
        device: String,
        /// What the key is called; see `key list`.
        #[arg(allow_hyphen_values = true)]
        kid: String,
        /// Why, as RFC 5280 has it; keyCompromise blocks the key too, and ends what was asked for with it.
        #[arg(long, value_name = "REASON", default_value = "cessationOfOperation")]
        reason: String,
        /// Do not ask.
        #[arg(long)]
        yes: bool,
        #[command(flatten)]
        because: Because,
    },
    /// Give a device the next key in the place of those that it has, which go on for a while.
    Rotate(Box<RotateKeyArgs>),
    /// Never certify or accept these public keys again, whoever shows them; certificates that have one are revoked.
    Block(BlockArgs),
    /// List the blocked keys.
    Blocked,
}

/// What key it is.
#[derive(Debug, Args)]
pub(crate) struct KeyMaterial {
    /// Make a 256-bit HMAC key that the device and the ward share, and write it to --out; its kind must have shared_keys = true.
    #[arg(long, conflicts_with_all = ["public_key", "shared_key"])]
    pub(crate) shared: bool,
    /// Take a shared key that exists: a JWK with kty oct.
    #[arg(long, value_name = "FILE", conflicts_with = "public_key")]
    pub(crate) shared_key: Option<PathBuf>,
    /// Register the public half of a key that the device made: in PEM, or as a JWK.
    #[arg(long, value_name = "FILE")]
    pub(crate) public_key: Option<PathBuf>,
    /// The file for the shared key, a JWK (RFC 7517) that only its owner can read: it leaves the ward once, and so.
    #[arg(long, value_name = "FILE")]
    pub(crate) out: Option<PathBuf>,
    /// How long it lasts; without it as long as its kind's `life`.
    #[arg(long = "for", value_name = "LENGTH", conflicts_with = "until")]
    pub(crate) life: Option<String>,
    /// Its last second.
    #[arg(long, value_name = "TIME")]
    pub(crate) until: Option<String>,
    /// From when on it counts; without it, from now on.
    #[arg(long, value_name = "TIME")]
    pub(crate) not_before: Option<String>,
    /// What people should know of it.
    #[arg(long, value_name = "TEXT")]
    pub(crate) note: Option<String>,
    #[command(flatten)]
    pub(crate) because: Because,
}

#[derive(Debug, Args)]
pub(crate) struct AddKeyArgs {
    /// The device.
    #[arg(required_unless_present = "condition")]
    pub(crate) device: Option<String>,
    /// A shared key for each device for which this condition holds, into --pack.
    #[arg(long = "where", value_name = "CONDITION", conflicts_with_all = ["device", "public_key", "shared_key", "out"])]
    #[arg(requires = "pack", requires = "shared")]
    pub(crate) condition: Option<String>,
    /// How many devices you expect that to be; asked for without it. Another number refuses it whole.
    #[arg(long, value_name = "N", requires = "condition")]
    pub(crate) count: Option<u64>,
    /// The new file for the keys of many devices: a compressed archive (.tar.zst) with a JWK each and a manifest.
    #[arg(long, value_name = "FILE", requires = "condition")]
    pub(crate) pack: Option<PathBuf>,
    /// Encrypt that to the owner of this certificate, as enroll does; may stand several times.
    #[arg(long, value_name = "CERT", requires = "pack")]
    pub(crate) pack_for: Vec<PathBuf>,
    #[command(flatten)]
    pub(crate) key: KeyMaterial,
}

#[derive(Debug, Args)]
pub(crate) struct RotateKeyArgs {
    /// The device.
    pub(crate) device: String,
    /// How long those that it has may still sign in, unless the new one is used before; without it the kind's `overlap`.
    #[arg(long, value_name = "LENGTH")]
    pub(crate) overlap: Option<String>,
    /// Make the next shared key and send it over MQTT, sealed to the device's registered P-256 or P-384 key (RFC 7516); the one before goes
    /// on until it is used.
    #[arg(long, conflicts_with_all = ["overlap", "shared", "shared_key", "public_key", "out", "life", "until", "not_before", "note"])]
    pub(crate) send: bool,
    #[command(flatten)]
    pub(crate) key: KeyMaterial,
}

#[derive(Debug, Args)]
pub(crate) struct BlockArgs {
    /// The certificate whose key it is, in PEM or DER.
    #[arg(long, value_name = "FILE", conflicts_with_all = ["public_key", "from"])]
    pub(crate) cert: Option<PathBuf>,
    /// The public key, in PEM or as a JWK.
    #[arg(long, value_name = "FILE", conflicts_with = "from")]
    pub(crate) public_key: Option<PathBuf>,
    /// A list of keys that are known to be weak or public: one SHA-256 of a SubjectPublicKeyInfo a line, in hexadecimal digits.
    #[arg(long, value_name = "FILE")]
    pub(crate) from: Option<PathBuf>,
    /// Do not ask.
    #[arg(long)]
    pub(crate) yes: bool,
    #[command(flatten)]
    pub(crate) because: Because,
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    use crate::args::Cli;

    #[test]
    fn the_name_of_a_key_may_begin_with_a_dash() {
        // One of 64 thumbprints does.
        let names = ["-9gjGwexM4WVG3qGBRiV-UbCvQzsJYETxZ1UD6D1XkY", "-qhVAAAAAAAAAAAAAAAAAA", "--x9gjGwexM4WVG3qGBRiV"];
        for name in names {
            for call in [
                "key retire wv-1 KID --yes --because x",
                "key retire wv-1 --yes --because x KID",
                "key retire --yes wv-1 KID",
                "token issue wv-1 --key KID --for 1h",
                "token issue wv-1 --bind KID --quiet",
                "token block --key KID --yes",
                "token block --jti KID --key KID --yes",
                "token signer retire KID --yes",
                "token signer retire --yes KID",
            ] {
                let words = std::iter::once("tidy-warden").chain(call.split(' '));
                let words: Vec<&str> = words.map(|word| if word == "KID" { name } else { word }).collect();
                let parsed = Cli::command().try_get_matches_from(&words);
                assert!(parsed.is_ok(), "{words:?}: {}", parsed.unwrap_err());
            }
        }
    }
}
