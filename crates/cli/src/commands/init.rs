//! `init`: makes a ward.

use std::fs;
use std::os::unix::fs::DirBuilderExt;
use std::path::Path;

use tidy_warden_core::authority::{AuthorityRole, KeyPlace};
use tidy_warden_core::certificate::{
    AltName, Certificate, Issuer, SerialNumber, Subject, Template, Usage, self_signed,
};
use tidy_warden_core::database::DatabaseAddress;
use tidy_warden_core::id::{AuthorityName, uuid_urn};
use tidy_warden_core::key::{LockCost, NewKey, Signer, SoftwareKey};
use tidy_warden_core::random::{bytes, hex};
use tidy_warden_core::settings::{self, Settings};
use tidy_warden_core::text::Source;
use tidy_warden_core::time::{Clock, Span, UnixTime};
use tidy_warden_store::{Cause, Founding, OperatorStore, WardRecord};
use tidy_warden_ward::post::{server_names, toml_text};
use tidy_warden_ward::server::SERVER_LIFE;

use super::Context;
use crate::args::InitArgs;
use crate::clock::{SystemRandom, WardClock};
use crate::edge::parse;
use crate::files::{self, Access};
use crate::passphrase::{self, Passphrase, Typed};
use crate::problem::{Exit, Problem};
use crate::ward::{KEYS, POLICIES, SETTINGS, STORE, StorePlace, Urls, actor};

/// How long the root and the issuing authorities last.
const ROOT_LIFE: Span = Span::from_days(20 * 365);
const ISSUING_LIFE: Span = Span::from_days(10 * 365);

const EXAMPLE_POLICY: &str = r#"# Policies say what devices may do. Nothing is allowed that no rule allows; a deny beats every allow.
# This one is an example: take the `# ` off, declare the kind `windvane` in ward.toml, then `policy check`.
#
# policy pylon-vane {
#   about "Wind vanes report and take settings"
#   for   kind = windvane
#
#   allow connect   as "{device}"
#   allow publish   "rope/{site}/{device}/wind"      qos <= 1, size <= 2KiB, rate <= 120/min
#   allow subscribe "rope/{site}/{device}/settings"
#   deny  publish   "rope/+/+/brake"                 because "only drive stations brake"
#
#   expect {kind=windvane, site=ossel, id=wv-0417} publish "rope/ossel/wv-0417/wind" allowed
#   expect {kind=windvane, site=ossel, id=wv-0417} publish "rope/ossel/wv-0418/wind" denied
# }
"#;

/// The passphrases that lock a new ward's keys.
pub(crate) struct Passphrases<'a> {
    pub(crate) root: &'a Passphrase,
    pub(crate) issuing: &'a Passphrase,
    pub(crate) servers: &'a Passphrase,
}

/// What a new ward is to be.
pub(crate) struct Plan<'a> {
    pub(crate) name: &'a str,
    pub(crate) host: &'a str,
    pub(crate) enterprise_number: Option<u32>,
    /// The address under which revocation lists are published, if they are.
    pub(crate) crl: Option<&'a str>,
    pub(crate) rehearsal: bool,
    /// Appended to the new `ward.toml`.
    pub(crate) more_settings: &'a str,
    /// The folder that the root's key goes to, if it is kept away from the ward.
    pub(crate) root_offline: Option<&'a Path>,
}

pub(crate) fn run(context: &Context<'_>, args: &InitArgs) -> Result<Exit, Problem> {
    let console = context.console;
    let clock = WardClock::of(args.rehearsal)?;
    refuse_existing(&context.dir)?;
    let host = args.host.as_deref().unwrap_or("localhost");
    let plan = Plan {
        name: &args.name,
        host,
        enterprise_number: args.enterprise_number,
        crl: args.crl.as_deref(),
        rehearsal: args.rehearsal,
        more_settings: &store_settings(args)?,
        root_offline: args.root_offline.as_deref(),
    };
    check_plan(&plan)?;
    let issuing = passphrase::get(context.passphrase_path(), "the ward's keys", Typed::Twice, console)?;
    let root = match &args.root_passphrase_file {
        Some(path) => passphrase::from_file(path, console)?,
        None => issuing.clone(),
    };
    // A guard keeps running with its key open; what it knows should open nothing else.
    let servers = match (&args.guard_passphrase_file, context.passphrase_path()) {
        (None, Some(_)) => issuing.clone(),
        (file, _) => passphrase::get(file.as_deref(), "the keys of guard and desk", Typed::Twice, console)?,
    };
    for (passphrase, what) in
        [(&issuing, "the ward's keys"), (&root, "the root's key"), (&servers, "the keys of guard and desk")]
    {
        passphrase::strong_enough(passphrase, what)?;
    }
    let passphrases = Passphrases { root: &root, issuing: &issuing, servers: &servers };
    let made = found(&context.dir, &plan, &passphrases, clock.now())?;
    if args.crl.is_none() {
        console.note(
            "certificates will name no place of revocation lists; if you publish them: crl = \"http://...\" under [endpoints]",
        );
    }
    if *servers == *issuing {
        console.note(
            "one passphrase opens all keys of the ward, also those of the guard; --guard-passphrase-file FILE gives these \
             one of their own",
        );
    }
    if args.host.is_none() {
        console.note("devices will look for this ward at localhost; --host NAME sets another name");
    }
    let dir = context.dir.display();
    if args.store.is_some() {
        let survey = crate::ward::open(&context.dir)?.store.survey()?;
        survey.warnings.iter().for_each(|warning| console.warn(warning));
    }
    if let Some(away) = &args.root_offline {
        console.note(format!(
            "the root's key is in {} and not in the ward; take it away, and name it with --root-key when it is needed",
            away.join("root.key").display()
        ));
    }
    console.note(format!("made the ward `{}` in {dir}", args.name));
    console.show(
        "tidy-warden/ward/1",
        serde_json::json!({ "name": args.name, "dir": dir.to_string(), "root_fingerprint": made.fingerprint.to_string() }),
        &format!("root {}\n     SHA-256 {}\n     ends {}\n", made.subject_text, made.fingerprint, made.not_after.date()),
    )?;
    console.note(format!(
        "next: declare a kind in {dir}/{SETTINGS}, such as [kinds.windvane], then\n      \
         tidy-warden --ward {dir} device add wv-0417 --kind windvane --label site=ossel"
    ));
    Ok(Exit::Done)
}

/// What `--store` adds to `ward.toml`.
fn store_settings(args: &InitArgs) -> Result<String, Problem> {
    let Some(address) = &args.store else { return Ok(String::new()) };
    let mut lines = in_database(address)?;
    if let Some(path) = &args.store_password_file {
        let path = std::path::absolute(path).map_err(|error| Problem::file("read", path, &error))?;
        lines.push_str(&format!("password_file = {}\n", toml_text(&path.to_string_lossy())));
    }
    Ok(lines)
}

/// What a ward whose store is in a database has in its settings for that, its last table.
pub(crate) fn in_database(address: &str) -> Result<String, Problem> {
    let address = DatabaseAddress::parse(address, false).map_err(|error| {
        Problem::usage("the address of --store cannot be taken")
            .because(error)
            .next(format!("--store '{}'", tidy_warden_core::database::EXAMPLE))
    })?;
    Ok(format!("\n[store]\nurl = {}\n", toml_text(&address.to_string())))
}

fn refuse_existing(dir: &Path) -> Result<(), Problem> {
    match [SETTINGS, STORE, KEYS].iter().map(|name| dir.join(name)).find(|path| path.exists()) {
        Some(path) => Err(Problem::refused(format!("cannot make a ward in {}", dir.display()))
            .because(format!("{} exists already", path.display()))
            .next("name another folder with --ward")),
        None => Ok(()),
    }
}

fn check_plan(plan: &Plan<'_>) -> Result<(), Problem> {
    if !settings::check_ward_name(plan.name) {
        return Err(Problem::refused(format!("{:?} cannot name a ward", plan.name))
            .because("a name has 1 to 40 printable characters and no space at its ends"));
    }
    if !tidy_warden_core::host::check_host(plan.host) {
        return Err(Problem::refused(format!("{:?} is not a host name or an IP address", plan.host))
            .next("--host mqtt.example.org"));
    }
    Ok(())
}

/// Makes the ward; gives its root. The folder shows nothing of it until all is there, `ward.toml` last.
pub(crate) fn found(
    dir: &Path,
    plan: &Plan<'_>,
    passphrases: &Passphrases<'_>,
    now: UnixTime,
) -> Result<Certificate, Problem> {
    refuse_existing(dir)?;
    check_plan(plan)?;
    let failed = |path: &Path| {
        let path = path.to_owned();
        move |error: std::io::Error| Problem::file("write", &path, &error)
    };
    fs::create_dir_all(dir).map_err(failed(dir))?;
    let text = settings::new_text(plan.name, plan.host, plan.enterprise_number, plan.crl) + plan.more_settings;
    let settings = Settings::parse(&Source::new(SETTINGS, &text))
        .map_err(|errors| Problem::text("the new ward's settings have mistakes", &errors))?;
    let made = authorities(&settings, plan, now)?;

    let staging = dir.join(format!(".init-{}", hex::<6>(&mut SystemRandom)));
    let folder = |path: &Path| fs::DirBuilder::new().mode(0o700).create(path).map_err(failed(path));
    if let Some(away) = plan.root_offline {
        fs::create_dir_all(away).map_err(failed(away))?;
        let key = away.join("root.key");
        if key.symlink_metadata().is_ok() {
            return Err(Problem::refused(format!("{} exists already", key.display()))
                .because("it may be another ward's root, so it is not overwritten")
                .next("name another folder with --root-offline"));
        }
    }
    folder(&staging)?;
    let result = (|| {
        let keys = staging.join(KEYS);
        folder(&keys)?;
        let cost = if plan.rehearsal { LockCost::Rehearsal } else { LockCost::Full };
        for (name, key, passphrase) in [
            ("root", &made.root.1, passphrases.root),
            ("devices", &made.devices.1, passphrases.issuing),
            ("service", &made.service.1, passphrases.issuing),
            ("tokens", &made.tokens, passphrases.issuing),
            ("guard", &made.guard.1, passphrases.servers),
            ("desk", &made.desk.1, passphrases.servers),
        ] {
            let locked = key.lock(passphrase, cost, &mut SystemRandom).map_err(signing)?;
            let folder = match plan.root_offline {
                Some(away) if name == "root" => away,
                _ => &keys,
            };
            let path = folder.join(format!("{name}.key"));
            files::create(&path, locked.as_bytes(), Access::Secret).map_err(failed(&path))?;
        }
        let policies = staging.join(POLICIES);
        fs::create_dir(&policies).map_err(failed(&policies))?;
        let example = policies.join("example.policy");
        files::create(&example, EXAMPLE_POLICY.as_bytes(), Access::Public).map_err(failed(&example))?;
        let place = match StorePlace::of(dir, &settings.store)? {
            StorePlace::File(_) => StorePlace::File(staging.join(STORE)),
            database => database,
        };
        found_store(&place, plan, &made, &text, now)?;
        let settings_file = staging.join(SETTINGS);
        files::create(&settings_file, text.as_bytes(), Access::Public).map_err(failed(&settings_file))?;
        for name in [KEYS, POLICIES, STORE, SETTINGS] {
            let place = dir.join(name);
            let is_elsewhere = name == STORE && settings.store.database.is_some();
            if !is_elsewhere && (name != POLICIES || !place.exists()) {
                fs::rename(staging.join(name), &place).map_err(failed(&place))?;
            }
        }
        Ok(())
    })();
    // After success only an empty folder is left (or the example, where policies were there before).
    let _ = fs::remove_dir_all(&staging);
    result.map(|()| made.root.0)
}

fn signing(error: impl std::fmt::Display) -> Problem {
    Problem::failed("cannot make the ward's keys and certificates").because(error)
}

/// Everything that is signed when a ward is made.
struct Made {
    urn: String,
    root: (Certificate, SoftwareKey),
    devices: (Certificate, SoftwareKey),
    service: (Certificate, SoftwareKey),
    guard: (Certificate, SoftwareKey),
    desk: (Certificate, SoftwareKey),
    tokens: SoftwareKey,
}

/// What the certificates of a new ward have in common.
struct Mint<'a> {
    plan: &'a Plan<'a>,
    settings: &'a Settings,
    now: UnixTime,
}

impl Mint<'_> {
    /// The subject of an authority; in a rehearsal it says so.
    fn authority_name(&self, what: &str) -> String {
        let mark = if self.plan.rehearsal { " REHEARSAL" } else { "" };
        format!("{} {what}{mark}", self.plan.name)
    }

    /// Signs a certificate for a new key; without `above` the key signs for itself. `above` is an authority and its name.
    fn sign(
        &self,
        common_name: &str,
        names: &[AltName],
        usage: Usage<'_>,
        life: Span,
        above: Option<(&str, &(Certificate, SoftwareKey))>,
    ) -> Result<(Certificate, SoftwareKey), Problem> {
        let key = SoftwareKey::generate(NewKey::P256).map_err(signing)?;
        let proven = key.proven();
        let urls = above.map(|(name, _)| Urls::of(self.settings, name)).unwrap_or_default();
        let template = Template {
            serial: SerialNumber::new(self.now, &mut SystemRandom),
            subject: &Subject::of(self.plan.name, common_name),
            names,
            key: &proven,
            now: self.now,
            life,
            usage,
            places: match usage {
                Usage::Authority { .. } => urls.list_only(),
                Usage::Client | Usage::Server | Usage::ClientAndServer | Usage::Errands | Usage::Vouchers => {
                    urls.places()
                }
            },
        };
        let certificate = match above {
            None => self_signed(&template, &key).map_err(signing)?,
            Some((_, (certificate, signer))) => {
                template.issue(Issuer { certificate, signer }).map_err(signing)?.certificate
            }
        };
        Ok((certificate, key))
    }

    fn issuing(&self, what: &str, root: &(Certificate, SoftwareKey)) -> Result<(Certificate, SoftwareKey), Problem> {
        self.sign(&self.authority_name(what), &[], Usage::ISSUING, ISSUING_LIFE, Some(("root", root)))
    }

    fn server(
        &self,
        name: &str,
        host: &str,
        service: &(Certificate, SoftwareKey),
    ) -> Result<(Certificate, SoftwareKey), Problem> {
        self.sign(name, &server_names(host), Usage::Server, SERVER_LIFE, Some(("service", service)))
    }
}

fn authorities(settings: &Settings, plan: &Plan<'_>, now: UnixTime) -> Result<Made, Problem> {
    let mint = Mint { plan, settings, now };
    let root = mint.sign(&mint.authority_name("root"), &[], Usage::UNLIMITED, ROOT_LIFE, None)?;
    let devices = mint.issuing("devices", &root)?;
    let service = mint.issuing("service", &root)?;
    let guard = mint.server("guard", &settings.endpoints.mqtt.host, &service)?;
    let desk = mint.server("desk", &settings.endpoints.desk.host, &service)?;
    let tokens = SoftwareKey::generate(NewKey::P256).map_err(signing)?;
    Ok(Made { urn: uuid_urn(bytes(&mut SystemRandom), 4), root, devices, service, guard, desk, tokens })
}

fn found_store(place: &StorePlace, plan: &Plan<'_>, made: &Made, settings: &str, now: UnixTime) -> Result<(), Problem> {
    let name = |text: &str| parse::<AuthorityName>(text);
    let root_key = if plan.root_offline.is_some() { KeyPlace::Away } else { KeyPlace::Ward };
    let founding = Founding {
        ward: WardRecord {
            urn: made.urn.clone(),
            rehearsal: plan.rehearsal,
            token_key: made.tokens.public_key().clone(),
        },
        authorities: &[
            (name("root")?, AuthorityRole::Root, made.root.0.clone(), root_key),
            (name("devices")?, AuthorityRole::Devices, made.devices.0.clone(), KeyPlace::Ward),
            (name("service")?, AuthorityRole::Service, made.service.0.clone(), KeyPlace::Ward),
        ],
        servers: &[("guard", made.guard.0.clone()), ("desk", made.desk.0.clone())],
        settings,
    };
    let cause = Cause { at: now, actor: actor(), because: String::new() };
    // Nothing is held open of it when it gets its place.
    drop(OperatorStore::new(place.create(&founding, &cause)?));
    Ok(())
}
