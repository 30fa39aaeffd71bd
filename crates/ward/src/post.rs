//! Posts: a folder with all that a guard or desk on another machine needs, and a ward as such a folder opens it.
//!
//! In the folder are `post.toml`, its own TLS key (locked with its own passphrase) and certificate, and the password of its own role in
//! the database; no authority's key, no policy, no passphrase of the ward.

use std::net::IpAddr;
use std::path::Path;

use data_encoding::{BASE64URL_NOPAD, HEXLOWER};
use serde::{Deserialize, Serialize};
use tidy_warden_core::asn1;
use tidy_warden_core::authority::{AuthorityRole, KeyPlace};
use tidy_warden_core::certificate::{AltName, Certificate, Issuer, SerialNumber, Subject, Template, Usage};
use tidy_warden_core::database::{DatabaseAddress, DatabaseHost};
use tidy_warden_core::id::PostName;
use tidy_warden_core::key::{NewKey, PublicKey, Signer, SoftwareKey, sha256};
use tidy_warden_core::post::{PostRole, login};
use tidy_warden_core::random::bytes;
use tidy_warden_core::settings::{PostFile, Settings, StoreSettings, adopted_octets};
use tidy_warden_core::text::Source;
use tidy_warden_store::{
    AdoptedSettings, Cause, Changes, DatabaseAccess, Declared, OperatorStore, PostRecord, StoreError, postgres,
};
use zeroize::Zeroizing;

use crate::clock::{SystemRandom, WardClock};
use crate::files::{self, Access, PendingFolder};
use crate::keys::{self, Openers, Passphrase};
use crate::open::{KEYS, MAX_TEXT, SETTINGS, Ward, clash, declared, difference, read_settings_text};
use crate::place::StorePlace;
use crate::problem::Problem;
use crate::server::SERVER_LIFE;

/// The file that makes a folder a post.
pub const POST: &str = "post.toml";

/// Its certificate.
const CERTIFICATE: &str = "post.pem";

/// The password of its role in the database.
const PASSWORD: &str = "store.pw";

/// The certificates that the database's must lead to.
const STORE_ROOTS: &str = "store-ca.pem";

/// Which edition of the settings it went by last, so that an older one is not taken.
const SETTINGS_SEEN: &str = "settings.seen";

/// The key that signs adopted settings, in the ward's `keys` folder.
const SETTINGS_KEY: &str = "settings";

/// AlgorithmIdentifier of ecdsa-with-SHA256 (RFC 5758 section 3.2), by which settings are signed.
const ECDSA_SHA_256: [u8; 12] = [0x30, 0x0a, 0x06, 0x08, 0x2a, 0x86, 0x48, 0xce, 0x3d, 0x04, 0x03, 0x02];

const MAX_FILE: u64 = 1024 * 1024;

/// The names that a server on `host` is reached by; for this machine itself also its loopback addresses.
#[must_use]
pub fn server_names(host: &str) -> Vec<AltName> {
    let loopback = host == "localhost" || host.parse::<IpAddr>().is_ok_and(|address| address.is_loopback());
    let names = if loopback { ["localhost", "127.0.0.1", "::1"].to_vec() } else { vec![host] };
    names.into_iter().filter_map(AltName::host).collect()
}

/// What a new post is to be.
#[derive(Debug)]
pub struct NewPost<'a> {
    /// Its name.
    pub name: PostName,
    /// What it does.
    pub role: PostRole,
    /// The host name or address that devices reach it by.
    pub host: &'a str,
    /// The folder that is made for it.
    pub out: &'a Path,
    /// What locks its key.
    pub passphrase: &'a Passphrase,
}

/// The database of a ward; a file on this machine is none that a post could work on.
fn database(ward: &Ward) -> Result<&DatabaseAccess, Problem> {
    match &ward.place {
        StorePlace::Database(access) => Ok(access),
        StorePlace::File(_) => Err(Problem::refused("there are no posts without a database")
            .because("the ward is in a file, which other machines cannot reach")
            .next("move it into a database first: store copy --to 'postgresql://...'")),
    }
}

/// Adds a post and writes its folder; both or nothing.
pub fn add(ward: &mut Ward, new: &NewPost<'_>, openers: &dyn Openers, cause: &Cause) -> Result<PostRecord, Problem> {
    let access = database(ward)?.clone();
    let refused = |why: &str| Problem::refused(format!("`{}` cannot name a post", new.name)).because(why);
    if new.name.as_str() == PostRole::Guard.as_str() || new.name.as_str() == PostRole::Desk.as_str() {
        return Err(refused("it is the name of the one in the ward's own folder").next("name another, such as guard-2"));
    }
    if !tidy_warden_core::host::check_host(new.host) {
        return Err(Problem::refused(format!("{:?} is not a host name or an IP address", new.host))
            .next("--host mqtt-2.example.org"));
    }
    let login = login(&access.address.database, &new.name).ok_or_else(|| {
        refused("its role in the database would have more than 63 characters").next("name it shorter")
    })?;
    keys::strong_enough(new.passphrase, "the post's key")?;
    if openers.passphrase("the ward's keys")? == new.passphrase {
        return Err(Problem::refused("the post's key cannot be locked with the ward's passphrase")
            .because("whoever has the post would have what opens the ward")
            .next("give it a passphrase of its own: --post-passphrase-file FILE"));
    }
    let settings = match ward.store.adopted_settings()? {
        Some(_) => settings_key(ward, openers, false)?,
        // The first post is what settings are adopted for.
        None => {
            let text = read_settings_text(&ward.dir)?;
            adopt(ward, &text, openers, cause)?;
            settings_key(ward, openers, false)?
        }
    };
    let (key, certificate) = certified(ward, new, openers)?;
    let password = Zeroizing::new(BASE64URL_NOPAD.encode(&bytes::<32>(&mut SystemRandom)));
    let record = PostRecord {
        name: new.name.clone(),
        role: new.role,
        host: new.host.to_owned(),
        verifier: postgres::verifier(&password),
        certificate,
        added: cause.at,
        retired: None,
        login,
    };
    let failed = |error: std::io::Error| Problem::file("write", new.out, &error);
    let mut folder = PendingFolder::begin(new.out, "post").map_err(failed)?;
    std::fs::create_dir(folder.path().join(KEYS)).map_err(failed)?;
    let locked = key
        .lock(new.passphrase, ward.lock_cost(), &mut SystemRandom)
        .map_err(|error| Problem::failed("cannot lock the post's key").because(error))?;
    let text = post_text(ward, &access, &record, settings.public_key());
    let pem = asn1::pem("CERTIFICATE", record.certificate.der());
    let key_file = format!("{KEYS}/{}.key", new.role.as_str());
    let issuing = match new.role {
        PostRole::Desk => issuing_keys(ward, new.passphrase, openers)?,
        PostRole::Guard => Vec::new(),
    };
    let mut all = vec![
        (key_file.as_str(), locked.as_bytes(), Access::Secret),
        (CERTIFICATE, pem.as_bytes(), Access::Public),
        (PASSWORD, password.as_bytes(), Access::Secret),
        (POST, text.as_bytes(), Access::Public),
    ];
    if let Some(roots) = &access.roots {
        all.push((STORE_ROOTS, roots, Access::Public));
    }
    all.extend(issuing.iter().map(|(name, locked)| (name.as_str(), locked.as_bytes(), Access::Secret)));
    all.into_iter().try_for_each(|(name, octets, access)| folder.add(name, octets, access)).map_err(failed)?;
    folder.sync().map_err(failed)?;
    let added = ward.store.add_post(&record, cause, &mut || folder.publish())?;
    added.map_err(|refusal| {
        Problem::refused(format!("the post `{}` was not added", new.name))
            .because(refusal)
            .next("name another; post list shows those that there are")
    })?;
    if new.role == PostRole::Guard && !ward.store.key_wraps()?.is_empty() {
        // Whoever is killed before this has a guard that takes no shared keys until the next `key add`, and says so.
        crate::shared::ready(ward, openers)?;
    }
    Ok(record)
}

/// The keys of all authorities that sign for devices, each with the name of its file, locked with a post's passphrase. Those on tokens stay
/// there.
fn issuing_keys(
    ward: &Ward,
    passphrase: &Passphrase,
    openers: &dyn Openers,
) -> Result<Vec<(String, Zeroizing<String>)>, Problem> {
    let mut all = Vec::new();
    for authority in ward.store.authorities()? {
        if authority.role != AuthorityRole::Devices || authority.retired.is_some() {
            continue;
        }
        match &authority.key {
            KeyPlace::Ward => {
                let name = authority.name.as_str();
                let key = ward.key(name, openers.passphrase(&format!("the authority `{name}`"))?)?;
                let locked = key
                    .lock(passphrase, ward.lock_cost(), &mut SystemRandom)
                    .map_err(|error| Problem::failed(format!("cannot lock the key of `{name}`")).because(error))?;
                all.push((format!("{KEYS}/{name}.key"), Zeroizing::new(locked.to_string())));
            }
            KeyPlace::Token { .. } => {}
            KeyPlace::Away | KeyPlace::Nowhere => {
                return Err(Problem::refused("a desk's post was not added")
                    .because(format!("the key of `{}` is neither in the ward nor on a token", authority.name))
                    .next("retire that authority, or keep its key where a desk can use it"));
            }
        }
    }
    Ok(all)
}

/// A new key, and a certificate for it from the ward's authority for services.
fn certified(ward: &Ward, new: &NewPost<'_>, openers: &dyn Openers) -> Result<(SoftwareKey, Certificate), Problem> {
    let failed = |error: &dyn std::fmt::Display| Problem::failed("cannot make the post's certificate").because(error);
    let key = SoftwareKey::generate(NewKey::P256).map_err(|error| failed(&error))?;
    let service = ward.service()?;
    let signer = openers.signer(ward, &service)?;
    let (proven, urls) = (key.proven(), ward.urls(&service.name));
    let template = Template {
        serial: SerialNumber::new(ward.now(), &mut SystemRandom),
        subject: &Subject::of(&ward.settings.name, new.name.as_str()),
        names: &server_names(new.host),
        key: &proven,
        now: ward.now(),
        life: SERVER_LIFE,
        usage: Usage::Server,
        places: urls.places(),
    };
    let issuer = Issuer { certificate: &service.certificate, signer: &*signer };
    let issued = template.issue(issuer).map_err(|error| failed(&error))?;
    Ok((key, issued.certificate))
}

fn post_text(ward: &Ward, access: &DatabaseAccess, post: &PostRecord, settings: &PublicKey) -> String {
    let text = |text: &str| toml_text(text);
    let roots = access.roots.as_ref().map(|_| STORE_ROOTS.to_owned());
    let address = DatabaseAddress { user: post.login.clone(), roots, ..access.address.clone() };
    let insecure = match &ward.settings.store.insecure {
        Some(reason) => format!("insecure = {}\n", text(reason)),
        None => String::new(),
    };
    // A password is refused where anybody could ask for it.
    let is_said = access.address.tls || access.insecure || access.address.hosts.iter().all(is_socket);
    let password = if is_said { format!("password_file = {}\n", text(PASSWORD)) } else { String::new() };
    let example = match post.role {
        PostRole::Guard => {
            "# [guard]\n# listen = \"0.0.0.0:8883\"\n# broker = \"tls://broker.example.org:8883\"\n# proxy_protocol = true\n\
             # proxy_from = [\"10.0.0.7\"]\n"
        }
        PostRole::Desk => {
            "# [desk]\n# listen = \"0.0.0.0:8843\"\n# listen_http = \"0.0.0.0:8080\"\n# proxy_protocol = true\n\
             # proxy_from = [\"10.0.0.7\"]\n"
        }
    };
    format!(
        "# What this post is, and what is about this machine alone. All else comes from the ward's settings, as they were\n\
         # adopted and signed.\n\n[post]\nname = {}\nrole = {}\nward = {}\nsettings_key = {}\n\n\
         [store]\nurl = {}\n{password}{insecure}\n\
         {example}",
        text(post.name.as_str()),
        text(post.role.as_str()),
        text(&ward.record.urn),
        text(&HEXLOWER.encode(settings.spki())),
        text(&address.to_string()),
    )
}

fn is_socket(host: &DatabaseHost) -> bool {
    matches!(host, DatabaseHost::Socket { .. })
}

/// A basic string of TOML.
#[must_use]
pub fn toml_text(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}

/// The key that signs adopted settings; made if there is none and `make` is set.
fn settings_key(ward: &Ward, openers: &dyn Openers, make: bool) -> Result<SoftwareKey, Problem> {
    let file = format!("{SETTINGS_KEY}.key");
    let path = ward.dir.join(KEYS).join(&file);
    if !make && !path.exists() {
        return Err(Problem::refused("the ward's settings cannot be signed here")
            .because(format!("they were adopted elsewhere, and {} is not here", path.display()))
            .next("do this where they were adopted, or bring that file"));
    }
    keys::open_or_make(ward, openers, &file, "the key that signs settings")
}

/// Whether adopted settings are signed by a key.
fn is_signed(settings: &AdoptedSettings, ward: &str, key: &PublicKey) -> bool {
    let octets = adopted_octets(ward, settings.number, &settings.text);
    key.verify(&ECDSA_SHA_256, &octets, &settings.signature).is_ok()
}

/// What adopting `text` as the settings of all machines would change, for people and the record; `None` if it is what counts already.
pub fn settings_difference(ward: &Ward, text: &str) -> Result<Option<serde_json::Value>, Problem> {
    let known = ward.store.adopted_settings()?.map(|known| known.text);
    Ok((known.as_deref() != Some(text)).then(|| difference(known.as_deref().unwrap_or_default(), text)))
}

/// Adopts `text` as the settings of all machines; gives its number.
pub fn adopt(ward: &mut Ward, text: &str, openers: &dyn Openers, cause: &Cause) -> Result<u32, Problem> {
    database(ward)?;
    let after = Settings::parse(&Source::new(SETTINGS, text))
        .map_err(|errors| Problem::text(format!("{SETTINGS} has mistakes"), &errors))?
        .own_facts();
    let newest = ward.store.adopted_settings()?;
    let before = match &newest {
        Some(newest) => declared(&newest.text),
        None => declared(&ward.store.settings_text()?),
    };
    let key = settings_key(ward, openers, newest.is_none())?;
    if newest.as_ref().is_some_and(|newest| !is_signed(newest, &ward.record.urn, key.public_key())) {
        return Err(Problem::refused("the settings were not adopted")
            .because("those that count now are signed with another key than keys/settings.key, and posts would not take these")
            .next("do this where they were adopted, or bring its keys/settings.key"));
    }
    let number = newest.map_or(0, |newest| newest.number) + 1;
    let signature = key
        .sign(&adopted_octets(&ward.record.urn, number, text))
        .map_err(|error| Problem::failed("the settings cannot be signed").because(error))?;
    let (author, at) = (cause.actor.clone(), cause.at);
    let settings = AdoptedSettings { number, text: text.to_owned(), signature, author, at };
    let difference = settings_difference(ward, text)?.unwrap_or_default();
    let declared = Declared { before: &before, after: &after };
    let adopted = ward.store.adopt_settings(&settings, declared, &difference, cause)?;
    match adopted.map_err(|clashes| clash(SETTINGS, &clashes))? {
        true => Ok(number),
        false => Err(Problem::refused("the settings were not adopted")
            .because("somebody else adopted others at the same moment")
            .next("look at them, then do it again")),
    }
}

/// Which edition a post went by last.
#[derive(Serialize, Deserialize)]
struct Seen {
    number: u32,
    sha256: String,
}

/// Refuses an edition of the settings that is older than what this post went by, or another one with the same number; remembers it.
fn not_older(dir: &Path, adopted: &AdoptedSettings) -> Result<(), Problem> {
    let path = dir.join(SETTINGS_SEEN);
    let sha256 = HEXLOWER.encode(&sha256(adopted.text.as_bytes()));
    if path.exists() {
        let seen: Seen = serde_json::from_str(&files::read_text(&path, MAX_FILE)?)
            .map_err(|error| Problem::failed(format!("cannot read {}", path.display())).because(error))?;
        if seen.number > adopted.number || seen.number == adopted.number && seen.sha256 != sha256 {
            return Err(Problem::refused("the ward's settings are not taken")
                .because(format!(
                    "edition {} stands in the store, and this post went by edition {} before, which was another text",
                    adopted.number, seen.number
                ))
                .next(
                    "see whether the store was put back from a backup; if so, adopt the settings again: settings adopt",
                ));
        }
        if seen.number == adopted.number {
            return Ok(());
        }
    }
    let seen = serde_json::to_string(&Seen { number: adopted.number, sha256 });
    let seen = seen.map_err(|error| Problem::failed("cannot write").because(error))?;
    files::replace(&path, seen.as_bytes()).map_err(|error| Problem::file("write", &path, &error))
}

/// What a post is, beside the ward that it works for.
#[derive(Debug, Clone)]
pub struct OpenPost {
    /// Its name.
    pub name: PostName,
    /// What it does.
    pub role: PostRole,
    /// Its own certificate.
    pub certificate: Certificate,
    /// Which edition of the settings it goes by.
    pub settings: u32,
    /// The change at which what servers show may have changed last (see [`Changes::shown`]), before its own certificate was read.
    pub servers: i64,
}

/// Opens the ward that the post in `dir` works for.
pub fn open(dir: &Path) -> Result<(Ward, OpenPost), Problem> {
    let path = dir.join(POST);
    if !path.exists() {
        return Err(Problem::not_found(format!("there is no post in {}", dir.display()))
            .because(format!("{} does not exist", path.display()))
            .next("name the folder that `post add NAME --out DIR` made"));
    }
    let text = files::read_text(&path, MAX_TEXT)?;
    let post = PostFile::parse(&Source::new(POST, &text))
        .map_err(|errors| Problem::text(format!("{} has mistakes", path.display()), &errors))?;
    let place = of_post(dir, &post.here.store)?;
    let store = OperatorStore::new(place.open(None)?);
    let record = store.ward()?;
    if record.urn != post.ward {
        return Err(Problem::refused(format!("the database {place} holds another ward"))
            .because(format!("it is {}, and this post belongs to {}", record.urn, post.ward))
            .next("set [store] url in post.toml right"));
    }
    let adopted = store.adopted_settings()?.ok_or_else(|| {
        Problem::refused("the ward's settings are not taken")
            .because("none were adopted")
            .next("where the ward is: settings adopt")
    })?;
    if !is_signed(&adopted, &record.urn, &post.settings_key) {
        return Err(Problem::refused("the ward's settings are not taken")
            .because(format!("edition {} is not signed with the key that this post knows", adopted.number))
            .next("see in `audit log` who adopted it; adopt them again with the right key: settings adopt"));
    }
    not_older(dir, &adopted)?;
    let settings = Settings::parse(&Source::new("the adopted settings", &adopted.text))
        .map_err(|errors| Problem::text("the adopted settings cannot be read by this version", &errors))?
        .on(&post.here);
    let pem = files::read_text(&dir.join(CERTIFICATE), MAX_FILE)?;
    let first = Certificate::from_pem(&pem).map_err(|error| {
        Problem::failed(format!("cannot read {}", dir.join(CERTIFICATE).display()))
            .because(error)
            .next("put the file back from a copy of the post")
    })?;
    let servers = Changes::from(store.head()?).shown();
    let certificate = newest(&store, &post.name, first)?;
    let clock = WardClock::of(record.rehearsal)?;
    let (dir, actor) = (dir.to_owned(), format!("post {}", post.name));
    let open = OpenPost { name: post.name, role: post.role, certificate, settings: adopted.number, servers };
    let is_adopted = true;
    Ok((Ward { dir, settings, place, store, record, clock, actor, is_adopted }, open))
}

/// The newest certificate of a post that was added with `first`; one for another key would be of no use here.
fn newest(store: &OperatorStore, name: &PostName, first: Certificate) -> Result<Certificate, Problem> {
    match store.server_certificate(name.as_str()) {
        Ok(next) if next.public_key == first.public_key => Ok(next),
        Ok(_) | Err(StoreError::Unknown { .. }) => Ok(first),
        Err(error) => Err(error.into()),
    }
}

/// Where the store of a post is.
fn of_post(dir: &Path, settings: &StoreSettings) -> Result<StorePlace, Problem> {
    match StorePlace::of(dir, settings)? {
        StorePlace::Database(access) => Ok(StorePlace::Database(Box::new(DatabaseAccess { is_post: true, ..*access }))),
        StorePlace::File(_) => Err(Problem::refused(format!("{POST} names no database"))
            .next("[store] with url = \"postgresql://...\", as `post add` wrote it")),
    }
}
