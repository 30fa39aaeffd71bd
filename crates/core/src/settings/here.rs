//! What only a machine's own file may say: addresses, paths, peers and secrets. Where a ward's settings are adopted, all else comes
//! from what was adopted, and this from `ward.toml`, or at a post from `post.toml`.

use std::collections::BTreeMap;

use data_encoding::HEXLOWER;
use toml::de::DeTable;

use super::desk::{DESK, DESK_HERE, DeskSettings};
use super::guard::{GUARD, GUARD_HERE, GuardSettings};
use super::key::{Key, Section};
use super::reader::{Reader, Table};
use super::ward::Maker;
use super::{Settings, StoreSettings};
use crate::id::{AuthorityName, PostName};
use crate::key::{PublicKey, sha256};
use crate::post::PostRole;
use crate::text::{Source, TextError};

/// What a machine's own file says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Here {
    /// `[guard]`, of which only what is about one machine is looked at.
    pub guard: GuardSettings,
    /// `[desk]`, of which only what is about one machine is looked at.
    pub desk: DeskSettings,
    /// `[store]`.
    pub store: StoreSettings,
    /// `[hsm] module`.
    pub hsm_module: Option<String>,
    /// `[makers.NAME]`.
    pub makers: BTreeMap<AuthorityName, Maker>,
}

impl From<&Settings> for Here {
    fn from(settings: &Settings) -> Self {
        Self {
            guard: settings.guard.clone(),
            desk: settings.desk.clone(),
            store: settings.store.clone(),
            hsm_module: settings.hsm_module.clone(),
            makers: settings.makers.clone(),
        }
    }
}

impl Settings {
    /// These settings on a machine whose own file says `here`.
    ///
    /// A maker whose revocation lists are asked for has to have them here too: without a path of its own they are looked for in
    /// `NAME.crl`, and none of its certificates is taken while they are not there.
    #[must_use]
    pub fn on(self, here: &Here) -> Self {
        let own = here.guard.clone();
        let guard = GuardSettings {
            listen: own.listen,
            listen_websocket: own.listen_websocket,
            proxy_protocol: own.proxy_protocol,
            proxy_from: own.proxy_from,
            metrics: own.metrics,
            broker: own.broker,
            broker_user: own.broker_user,
            broker_password_file: own.broker_password_file,
            broker_ca: own.broker_ca,
            broker_identity: own.broker_identity,
            ..self.guard
        };
        let maker = |(name, maker): (AuthorityName, Maker)| {
            let own = here.makers.get(&name).and_then(|own| own.crl_file.clone());
            let crl_file = maker.crl_file.map(|_| own.clone().unwrap_or_else(|| format!("{name}.crl"))).or(own);
            (name, Maker { crl_file })
        };
        let mut makers: BTreeMap<_, _> = self.makers.into_iter().map(maker).collect();
        // Lists that only this machine asks for are asked for too.
        for (name, own) in &here.makers {
            makers.entry(name.clone()).or_insert_with(|| own.clone());
        }
        let (store, hsm_module) = (here.store.clone(), here.hsm_module.clone());
        let own = here.desk.clone();
        let desk = DeskSettings {
            listen: own.listen,
            listen_http: own.listen_http,
            metrics: own.metrics,
            proxy_protocol: own.proxy_protocol,
            proxy_from: own.proxy_from,
            ..self.desk
        };
        Self { guard, desk, makers, store, hsm_module, ..self }
    }
}

/// The keys of `[post]` in `post.toml`.
pub(super) const POST: Section = Section {
    head: "[post]",
    example: "[post]",
    about: "In `post.toml` alone, which `post add` writes: what this post is. Beside it that file may have [store], the keys of [guard] \
            and [desk] that are about one machine (addresses, `proxy_protocol`, `proxy_from` and all of the broker), [makers.NAME] and [hsm].",
    keys: &[NAME, ROLE, WARD, SETTINGS_KEY],
};

const NAME: Key = Key::example("name", "\"guard-2\"", "a name, such as \"guard-2\"", "its name");
const ROLE: Key = Key::example("role", "\"guard\"", "\"guard\" or \"desk\"", "what it does");
const WARD: Key = Key::example(
    "ward",
    "\"urn:uuid:00000000-0000-4000-8000-000000000000\"",
    "a UUID as a URN",
    "the ward that it belongs to; no other's store is taken",
);
const SETTINGS_KEY: Key = Key::example(
    "settings_key",
    "\"3059...\"",
    "a public key in hexadecimal digits",
    "who signs the settings that it goes by: SubjectPublicKeyInfo (RFC 5280 section 4.1)",
);

/// What `post.toml` says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PostFile {
    /// Its name.
    pub name: PostName,
    /// What it does.
    pub role: PostRole,
    /// The URN of its ward.
    pub ward: String,
    /// The key that adopted settings must be signed with.
    pub settings_key: PublicKey,
    /// What this machine's own file says.
    pub here: Here,
}

impl PostFile {
    /// Reads the text of `post.toml`.
    ///
    /// # Errors
    /// Every mistake in it; keys that settings may have which are not about one machine are mistakes too.
    pub fn parse(source: &Source) -> Result<Self, Vec<TextError>> {
        let (root, broken) = DeTable::parse_recoverable(&source.text);
        let mut reader = Reader { source, errors: Vec::new(), broken: Vec::new() };
        for error in broken.into_iter().take(super::MOST_BROKEN) {
            let problem = error.message().lines().next().unwrap_or("this is not TOML").to_owned();
            reader.complain(error.span().unwrap_or(0..1), problem, "expected TOML 1.0");
        }
        let read = reader.post_file(root.get_ref());
        match read {
            Some(post) if reader.errors.is_empty() => Ok(post),
            _ => Err(reader.errors),
        }
    }
}

impl Reader<'_> {
    fn post_file(&mut self, root: &Table<'_>) -> Option<PostFile> {
        self.only_these(root, "post.toml", &["post", "guard", "desk", "store", "makers", "hsm"]);
        let Some(table) = self.section(root, "post", &POST) else {
            self.complain(0..0, "the section [post] is missing".to_owned(), "expected what `post add` wrote");
            return None;
        };
        for key in POST.keys.iter().filter(|key| !table.contains_key(key.name)) {
            self.complain(0..0, format!("[post] has no {}", key.name), "expected what `post add` wrote");
        }
        let (name, role) =
            (self.text(table, &NAME, |text| text.parse().ok()), self.text(table, &ROLE, |text| text.parse().ok()));
        let ward = self.text(table, &WARD, |text| text.starts_with("urn:uuid:").then(|| text.to_owned()));
        let key = |text: &str| PublicKey::from_spki(&HEXLOWER.decode(text.as_bytes()).ok()?).ok();
        let settings_key = self.text(table, &SETTINGS_KEY, key);
        for (name, all, of_here) in [("guard", &GUARD, &GUARD_HERE), ("desk", &DESK, &DESK_HERE)] {
            let Some(section) = self.table(root, name) else { continue };
            let strange: Vec<_> =
                section.keys().filter(|key| all.has(key.get_ref()) && !of_here.has(key.get_ref())).collect();
            for key in strange {
                let problem = format!("`{}` is a setting of the whole ward", key.get_ref());
                self.complain(key.span(), problem, "expected it in the ward's settings, which all posts go by");
            }
        }
        let here = Here {
            guard: self.guard(root),
            desk: self.desk(root),
            store: self.store(root),
            hsm_module: self.hsm_module(root),
            makers: self.makers(root),
        };
        Some(PostFile { name: name?, role: role?, ward: ward?, settings_key: settings_key?, here })
    }
}

/// What is signed when settings are adopted: the ward, the edition's number, and SHA-256 of the text. So no text of another ward, and
/// no other edition, is taken for it.
#[must_use]
pub fn adopted_octets(ward: &str, number: u32, text: &str) -> Vec<u8> {
    let mut out = b"tidy-warden settings 1\0".to_vec();
    out.extend_from_slice(&u64::try_from(ward.len()).unwrap_or(u64::MAX).to_be_bytes());
    out.extend_from_slice(ward.as_bytes());
    out.extend_from_slice(&number.to_be_bytes());
    out.extend_from_slice(&sha256(text.as_bytes()));
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::key::{NewKey, Signer, SoftwareKey};

    fn text(more: &str) -> String {
        let key = SoftwareKey::generate(NewKey::P256).unwrap();
        format!(
            "[post]\nname = \"guard-2\"\nrole = \"guard\"\nward = \"urn:uuid:1\"\nsettings_key = \"{}\"\n\n[store]\nurl = \
             \"postgresql:///north?host=/run/pg&user=north_post_guard-2\"\n{more}",
            HEXLOWER.encode(key.public_key().spki())
        )
    }

    fn parsed(text: &str) -> Result<PostFile, String> {
        PostFile::parse(&Source::new("post.toml", text))
            .map_err(|errors| errors.iter().map(|error| format!("{}\n", error.problem)).collect())
    }

    #[test]
    fn a_post_says_what_is_about_its_machine_and_nothing_else() {
        let post = parsed(&text("[guard]\nlisten = \"0.0.0.0:8883\"\nbroker = \"builtin\"\n")).unwrap();
        assert_eq!((post.name.as_str(), post.role, post.ward.as_str()), ("guard-2", PostRole::Guard, "urn:uuid:1"));
        assert_eq!(post.here.guard.listen.map(|listen| listen.port()), Some(8883));
        for (more, problem) in [
            ("[guard]\nstore_patience = \"5m\"\n", "`store_patience` is a setting of the whole ward"),
            ("[desk]\ncrl_life = \"5d\"\n", "`crl_life` is a setting of the whole ward"),
            ("[guard]\nlissen = \"0.0.0.0:8883\"\n", "`lissen` is not a setting"),
            ("[kinds.windvane]\n", "`kinds` is not a setting of post.toml"),
            ("[guard\n", "table"),
        ] {
            let errors = parsed(&text(more)).unwrap_err();
            assert!(errors.contains(problem), "{more}: {errors}");
        }
        for (cut, problem) in [("name =", "[post] has no name"), ("ward =", "[post] has no ward")] {
            let without: String =
                text("").lines().filter(|line| !line.starts_with(cut)).map(|line| format!("{line}\n")).collect();
            assert!(parsed(&without).unwrap_err().contains(problem));
        }
        let wrong = text("").replace("settings_key = \"30", "settings_key = \"31");
        assert!(parsed(&wrong).unwrap_err().contains("settings_key"));
        assert!(parsed("").unwrap_err().contains("[post] is missing"));
    }

    #[test]
    fn addresses_paths_and_secrets_come_from_the_machines_own_file_alone() {
        let ward = "[ward]\nname = \"n\"\n[store]\nurl = \"postgresql:///x?host=/run/pg&user=o\"\n[hsm]\nmodule = \"/lib/evil.so\"\n\
                    [makers.one]\ncrl_file = \"/etc/passwd\"\n[makers.two]\ncrl_file = \"two.crl\"\n[guard]\nlisten = \"0.0.0.0:1\"\n\
                    metrics = \"0.0.0.0:2\"\nbroker = \"unix:/evil\"\nbroker_user = \"u\"\nbroker_password_file = \"/etc/shadow\"\n\
                    proxy_protocol = true\nproxy_from = [\"0.0.0.0/0\"]\nstore_patience = \"7s\"\n";
        let adopted = Settings::parse(&Source::new("ward.toml", ward)).unwrap();
        let post = parsed(&text("[makers.two]\ncrl_file = \"here.crl\"\n[guard]\nlisten = \"127.0.0.1:3\"\n")).unwrap();
        let settings = adopted.on(&post.here);
        let guard = &settings.guard;
        assert_eq!(guard.listen.map(|listen| listen.port()), Some(3));
        assert_eq!((guard.metrics, &guard.broker, &guard.broker_user), (None, &None, &None));
        assert!(guard.broker_password_file.is_none() && guard.proxy_from.is_empty() && !guard.proxy_protocol);
        assert_eq!((settings.hsm_module, &settings.store), (None, &post.here.store));
        assert_eq!(guard.store_patience.seconds(), 7, "what is the ward's stays");
        let lists: Vec<_> = settings.makers.values().map(|maker| maker.crl_file.as_deref()).collect();
        assert_eq!(lists, [Some("one.crl"), Some("here.crl")], "who must have a list has to have it here");
    }

    #[test]
    fn every_key_that_holds_an_address_or_a_path_is_about_one_machine() {
        for key in GUARD.keys {
            let local = key.expected.contains("path of a file")
                || key.expected.contains("address")
                || key.name.starts_with("broker");
            assert_eq!(GUARD_HERE.has(key.name), local || key.name.starts_with("proxy"), "{}", key.name);
        }
        assert!(GUARD_HERE.keys.iter().all(|key| GUARD.has(key.name)));
        for key in DESK.keys {
            let local = key.expected.contains("address") || key.name.starts_with("proxy");
            assert_eq!(DESK_HERE.has(key.name), local, "{}", key.name);
        }
    }

    #[test]
    fn what_is_signed_is_one_text_of_one_edition_of_one_ward() {
        let one = adopted_octets("urn:uuid:1", 1, "a");
        for other in [("urn:uuid:2", 1, "a"), ("urn:uuid:1", 2, "a"), ("urn:uuid:1", 1, "b")] {
            assert_ne!(adopted_octets(other.0, other.1, other.2), one);
        }
    }
}
