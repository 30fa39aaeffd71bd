//! The picture of whose certificates are taken.

use std::sync::Arc;

use tidy_warden_core::authority::{AuthorityRole, KeyPlace};
use tidy_warden_core::certificate::{Certificate, Issuer, Places, SerialNumber, Subject, Template, Usage, self_signed};
use tidy_warden_core::credential::Origin;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::key::{NewKey, ProvenKey, Signer, SoftwareKey};
use tidy_warden_core::random::Randomness;
use tidy_warden_core::time::{Span, UnixTime};
use tidy_warden_serve::trust::{Trust, TrustHolder};
use tidy_warden_store::{Cause, Founding, MemoryStore, NewAuthority, NewCredential, OperatorStore, WardRecord};

const NOW: UnixTime = UnixTime(1_795_417_333);

struct Counting(u64);

impl Randomness for Counting {
    fn fill(&mut self, bytes: &mut [u8]) {
        for chunk in bytes.chunks_mut(8) {
            self.0 += 1;
            chunk.copy_from_slice(&self.0.to_be_bytes()[..chunk.len()]);
        }
    }
}

struct Authority {
    key: SoftwareKey,
    certificate: Certificate,
}

struct Makes(Counting);

impl Makes {
    fn template<'a>(&mut self, key: &'a ProvenKey, subject: &'a Subject, usage: Usage<'a>) -> Template<'a> {
        let serial = SerialNumber::new(NOW, &mut self.0);
        let life = Span::from_days(30);
        Template { serial, subject, names: &[], key, now: NOW, life, usage, places: Places::default() }
    }

    fn root(&mut self, name: &str) -> Authority {
        let key = SoftwareKey::generate(NewKey::P256).unwrap();
        let (proven, subject) = (key.proven(), Subject::of("w", name));
        let certificate = self_signed(&self.template(&proven, &subject, Usage::UNLIMITED), &key).unwrap();
        Authority { key, certificate }
    }

    fn below(&mut self, above: &Authority, name: &str) -> Authority {
        let key = SoftwareKey::generate(NewKey::P256).unwrap();
        let (proven, subject) = (key.proven(), Subject::of("w", name));
        let template = self.template(&proven, &subject, Usage::UNLIMITED);
        let issuer = Issuer { certificate: &above.certificate, signer: &above.key };
        let certificate = template.issue(issuer).unwrap().certificate;
        Authority { key, certificate }
    }

    fn leaf(&mut self, above: &Authority, name: &str) -> Certificate {
        let key = SoftwareKey::generate(NewKey::P256).unwrap().proven();
        let subject = Subject::of("w", name);
        let template = self.template(&key, &subject, Usage::Client);
        template.issue(Issuer { certificate: &above.certificate, signer: &above.key }).unwrap().certificate
    }
}

fn cause() -> Cause {
    Cause { at: NOW, actor: "ada".into(), because: "a test".into() }
}

fn read(store: &OperatorStore, before: &Trust) -> Trust {
    let authorities = store.head().unwrap().authorities;
    store.view(|view| Trust::read(view, authorities, before)).unwrap()
}

#[test]
fn a_certificate_is_taken_by_its_chain_or_because_it_or_its_key_is_bound() {
    let mut makes = Makes(Counting(0));
    let root = makes.root("root");
    let devices = makes.below(&root, "devices");
    let stranger = makes.root("stranger");
    let ward = WardRecord { urn: "urn:uuid:1".into(), rehearsal: false, token_key: root.key.public_key().clone() };
    let authorities = [
        ("root".parse().unwrap(), AuthorityRole::Root, root.certificate.clone(), KeyPlace::Ward),
        ("devices".parse().unwrap(), AuthorityRole::Devices, devices.certificate.clone(), KeyPlace::Ward),
    ];
    let founding =
        Founding { ward, authorities: &authorities, servers: &[("guard", root.certificate.clone())], settings: "" };
    let mut store = OperatorStore::new(Box::new(MemoryStore::create(&founding, &cause()).unwrap()));
    let first = read(&store, &Trust::default());
    let (own, foreign, other) =
        (makes.leaf(&devices, "wv-1"), makes.leaf(&stranger, "wv-2"), makes.leaf(&stranger, "wv-3"));
    assert!(first.judge(&own, NOW).is_ok());
    assert!(first.judge(&own, NOW.plus(Span::from_days(31))).is_err(), "it ended");
    assert!(first.judge(&foreign, NOW).is_err() && !first.takes(foreign.der(), NOW));
    assert!(first.takes(own.der(), NOW) && !first.takes(b"rubbish", NOW));

    // Bound to a device, it is taken though nobody trusts who signed it; its neighbour is not.
    let id = "wv-2".parse().unwrap();
    store
        .add_devices(&[DeviceRecord::new("wv-2".parse().unwrap(), "windvane".parse().unwrap(), NOW)], &cause())
        .unwrap()
        .unwrap();
    let name = "devices".parse().unwrap();
    let bound = NewCredential {
        origin: Origin::Pinned,
        authority: None,
        ..NewCredential::issued(&id, &name, &foreign, "p256")
    };
    store.record_issued(&bound, &cause(), &mut || Ok(())).unwrap().unwrap();
    let with_bound = store.view(|view| first.with_bound(view)).unwrap().unwrap();
    assert!(with_bound.judge(&foreign, NOW).is_ok() && with_bound.judge(&other, NOW).is_err());
    assert!(store.view(|view| with_bound.with_bound(view)).unwrap().is_none(), "nothing came since");
    assert!(with_bound.forgotten().judge(&foreign, NOW).is_err(), "another store has other bindings");

    // An authority that is retired signs for nobody any more.
    let second = makes.below(&root, "second");
    let new = NewAuthority {
        name: &"second".parse().unwrap(),
        role: AuthorityRole::Devices,
        certificate: &second.certificate,
        key: KeyPlace::Ward,
        replaces: None,
        crosses: &[],
        trust: None,
    };
    store.add_authority(&new, &cause()).unwrap().unwrap();
    store.retire_authority(&name, &cause()).unwrap();
    let later = read(&store, &with_bound);
    assert!(later.generation > with_bound.generation && later.authorities > first.authorities);
    assert!(later.judge(&own, NOW).is_err());
    assert!(later.judge(&makes.leaf(&second, "wv-4"), NOW).is_ok());
    assert!(later.judge(&foreign, NOW).is_ok(), "what is bound stays");
}

fn numbered(authorities: i64) -> Trust {
    let mut trust = Trust::default();
    trust.authorities = authorities;
    trust
}

#[test]
fn a_picture_takes_the_place_of_the_one_that_it_was_made_from() {
    let holder = TrustHolder::default();
    let before = holder.now();
    assert!(holder.replace(&before, numbered(1)));
    assert!(!holder.replace(&before, numbered(2)), "somebody was quicker");
    assert_eq!(holder.now().authorities, 1);
    holder.set(numbered(3));
    assert_eq!(holder.now().authorities, 3);
    assert!(!Arc::ptr_eq(&before, &holder.now()));
}
