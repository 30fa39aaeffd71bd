//! What the record says that the ward's tables hold: who is out, on hold or retired, which certificates are revoked, what was
//! adopted. Whoever changes a table past this program leaves a row that does not follow.

use std::collections::{BTreeMap, HashMap};

use serde_json::Value;

use super::Entry;
use crate::time::UnixTime;

/// Where a device stands by the record.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct DeviceStanding {
    /// Whether it was revoked and not reopened.
    pub out: bool,
    /// Whether it is on hold.
    pub held: bool,
    /// Whether it was retired.
    pub retired: bool,
}

/// Follows the record; memory grows with the devices that are, or were, out, on hold or retired, and with revoked certificates.
#[derive(Debug, Clone, Default)]
pub struct Replay {
    /// Devices about which the record says something of that kind.
    pub devices: HashMap<String, DeviceStanding>,
    /// Serial numbers (or names of keys) that were revoked, with the entry that says so.
    pub revoked: HashMap<String, i64>,
    /// The digest of each adopted edition, in hexadecimal digits.
    pub editions: BTreeMap<u32, String>,
    /// The fingerprint of each authority, and whether it was retired.
    pub authorities: BTreeMap<String, (String, bool)>,
    /// SHA-256 of the settings that were recorded last, if the record says so.
    pub settings: Option<String>,
    /// The fingerprint of each post's certificate, and whether it was retired.
    pub posts: BTreeMap<String, (String, bool)>,
    /// The fingerprints of the certificates that guard and desk of the ward's folder were given after their first.
    pub servers: BTreeMap<String, String>,
    /// Those that called and were not accepted, by the ids under which they wait: whether a person refused them. That they lapsed
    /// leaves no entry.
    pub asked: BTreeMap<String, bool>,
    /// Children that gateways brought in: what became of each.
    pub introduced: BTreeMap<String, String>,
    /// Number and digest of the settings that were adopted last for all machines.
    pub adopted: Option<(u32, String)>,
    /// For each entry that opened admissions: the number of the first, how many, and the digest over what is fixed of them.
    pub admissions: BTreeMap<i64, (u32, u64, String)>,
    /// How admissions ended by name: the word for it, and the fingerprint of what was given.
    pub admission_ends: HashMap<String, (&'static str, String)>,
    /// The last entry by which a device lost the admissions that were open for it.
    pub withdrawn_of: HashMap<String, i64>,
    /// The last entry by which all that were open were lost.
    pub withdrawn_all: i64,
    /// How many keys were blocked by `key.block` entries.
    pub blocked: u64,
    /// Keys that sign tokens: what each is called in them, and whether it was retired. The one that every ward begins with is not among them
    /// before it is retired.
    pub signers: BTreeMap<String, (String, bool)>,
    /// Blocks of tokens by their names, in hexadecimal digits, and until when each is kept.
    pub blocks: HashMap<String, UnixTime>,
    /// The owner of each device that was claimed, handed over or given up, by the last entry that says so.
    pub owners: HashMap<String, Option<String>>,
    /// For each entry that recorded certificates: how many, and the digest over their fingerprints or the one fingerprint.
    pub recorded: BTreeMap<i64, (u64, String)>,
    /// Whether an entry recorded certificates without saying which, as older versions did.
    pub unnamed: bool,
}

impl Replay {
    /// Takes one entry more.
    pub fn follow(&mut self, entry: &Entry) {
        let detail: Value = serde_json::from_str(&entry.detail).unwrap_or(Value::Null);
        let text = |key: &str| detail[key].as_str().unwrap_or_default().to_owned();
        let subject = || entry.subject.clone();
        let mut revoke = |key: &str| {
            for serial in detail[key].as_array().into_iter().flatten().filter_map(Value::as_str) {
                self.revoked.insert(serial.to_owned(), entry.number);
            }
        };
        match entry.act.as_str() {
            "revoke" => {
                revoke("serials");
                if detail["device_out"] == true {
                    self.withdrawn_of.insert(subject(), entry.number);
                    let device = self.devices.entry(subject()).or_default();
                    // A retired device stays what it is.
                    if !device.retired {
                        (device.out, device.held) = (true, false);
                    }
                }
            }
            "device.retire" => {
                revoke("serials");
                self.withdrawn_of.insert(subject(), entry.number);
                let device = self.devices.entry(subject()).or_default();
                (device.retired, device.held) = (true, false);
            }
            "claim.take" | "claim.give-up" | "claim.hand-over" => {
                revoke("serials");
                self.owners.insert(subject(), detail["owner"].as_str().map(str::to_owned));
            }
            "device.reopen" => self.devices.entry(subject()).or_default().out = false,
            "hold" => self.devices.entry(subject()).or_default().held = true,
            "release" => self.devices.entry(subject()).or_default().held = false,
            "policy.adopt" => {
                if let Some(number) = entry.subject.strip_prefix("edition ").and_then(|number| number.parse().ok()) {
                    self.editions.insert(number, text("sha256"));
                }
            }
            "ward.init" => {
                for authority in detail["authorities"].as_array().into_iter().flatten() {
                    let of = |key: &str| authority[key].as_str().unwrap_or_default().to_owned();
                    self.authorities.insert(of("name"), (of("fingerprint"), false));
                }
            }
            "authority.add" => {
                self.authorities.insert(subject(), (text("fingerprint"), false));
            }
            "authority.retire" => {
                if let Some((_, retired)) = self.authorities.get_mut(&entry.subject) {
                    *retired = true;
                }
            }
            "post.add" => {
                self.posts.insert(subject(), (text("fingerprint"), false));
            }
            "server.renew" | "server.make" => {
                match self.posts.get_mut(&entry.subject) {
                    Some((fingerprint, _)) => *fingerprint = text("fingerprint"),
                    None => drop(self.servers.insert(subject(), text("fingerprint"))),
                };
            }
            "post.retire" => {
                if let Some((_, retired)) = self.posts.get_mut(&entry.subject) {
                    *retired = true;
                }
            }
            "settings.adopt" => {
                let number = entry.subject.strip_prefix("edition ").and_then(|number| number.parse().ok());
                self.adopted = number.map(|number| (number, text("sha256")));
            }
            "admission.open" => {
                let number = |key: &str| detail[key].as_u64().unwrap_or(0);
                let first = u32::try_from(number("first")).unwrap_or(0);
                self.admissions.insert(entry.number, (first, number("count"), text("admissions_sha256")));
            }
            "admission.use" => {
                self.admission_ends.insert(subject(), ("used", text("fingerprint")));
            }
            "admission.withdraw" => {
                self.admission_ends.insert(subject(), ("withdrawn", String::new()));
            }
            "admission.lapse" => {
                self.admission_ends.insert(subject(), ("lapsed", String::new()));
            }
            "device.ask" => {
                self.asked.insert(subject(), false);
            }
            "device.introduce" => {
                self.introduced.insert(subject(), text("state"));
            }
            "device.accept" => match self.introduced.get_mut(&entry.subject) {
                Some(state) => *state = "accepted".to_owned(),
                None => drop(self.asked.remove(&entry.subject)),
            },
            "device.refuse" => match self.introduced.get_mut(&entry.subject) {
                Some(state) => *state = "refused".to_owned(),
                None => drop(self.asked.insert(subject(), true)),
            },
            "store.restore" if detail["withdraws_admissions"] == true => self.withdrawn_all = entry.number,
            "key.block" => self.blocked += detail["count"].as_u64().unwrap_or(0),
            "settings.changed" => self.settings = Some(text("sha256")),
            "token.signer-add" => {
                self.signers.insert(subject(), (text("kid"), false));
            }
            "token.signer-retire" => {
                // The first one stands in no entry before.
                self.signers.entry(subject()).or_insert_with(|| (text("kid"), false)).1 = true;
            }
            "token.block" => {
                let until = detail["until"].as_str().and_then(|until| until.parse::<UnixTime>().ok());
                let known = self.blocks.entry(text("name")).or_insert(UnixTime(0));
                *known = until.map_or(*known, |until| until.max(*known));
            }
            "credential.issue" | "credential.pin" | "key.add" => {
                self.recorded.insert(entry.number, (1, text("fingerprint")));
            }
            _ => {
                if let Some(digest) = detail["credentials_sha256"].as_str() {
                    let count = detail["count"].as_u64().unwrap_or(0);
                    self.recorded.insert(entry.number, (count, digest.to_owned()));
                } else if detail["list_sha256"].is_string() && detail["listed"].is_u64() {
                    self.unnamed |= detail["count"].as_u64() != Some(0);
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::audit::{Draft, GENESIS};

    #[test]
    fn what_the_record_says_is_what_it_said_last() {
        let mut replay = Replay::default();
        let mut number = 0;
        let mut entry = |act: &'static str, subject: &str, detail: &str| {
            number += 1;
            let draft = Draft {
                at: UnixTime(0),
                actor: String::new(),
                act,
                subject: subject.into(),
                because: String::new(),
                detail: detail.into(),
            };
            replay.follow(&Entry::seal(draft, number, GENESIS));
        };
        entry("ward.init", "urn", r#"{"authorities":[{"name":"devices","fingerprint":"aa"}]}"#);
        entry("hold", "wv-1", r#"{"serials":[]}"#);
        entry("hold", "wv-2", "{}");
        entry("release", "wv-2", "{}");
        entry("revoke", "wv-1", r#"{"serials":["01","02"],"device_out":true}"#);
        entry("revoke", "wv-3", r#"{"serials":["03"],"device_out":false}"#);
        entry("revoke", "wv-4", r#"{"serials":[],"device_out":true}"#);
        entry("device.reopen", "wv-4", "{}");
        entry("device.retire", "wv-5", r#"{"serials":["04"]}"#);
        entry("policy.adopt", "edition 7", r#"{"sha256":"bb"}"#);
        entry("authority.retire", "devices", "{}");
        entry("key.block", "3 keys", r#"{"count":3,"source":"listed"}"#);
        entry("claim.take", "wv-6", r#"{"owner":"mole","serials":[]}"#);
        entry("claim.take", "wv-7", r#"{"owner":"mole","serials":[]}"#);
        entry("claim.give-up", "wv-7", r#"{"owner":null,"serials":["05"]}"#);
        entry("device.ask", "asking-1", "{}");
        entry("device.ask", "asking-2", "{}");
        entry("device.refuse", "asking-2", "{}");
        entry("device.ask", "asking-3", "{}");
        entry("device.accept", "asking-3", r#"{"device":"wv-9"}"#);
        entry("device.introduce", "cb-1", r#"{"state":"waits"}"#);
        entry("device.introduce", "cb-2", r#"{"state":"waits"}"#);
        entry("device.accept", "cb-2", "{}");
        entry("token.signer-add", "tokens-2", r#"{"kid":"k2"}"#);
        entry("token.signer-retire", "tokens", r#"{"kid":"k1"}"#);
        entry("token.block", "wv-1", r#"{"name":"0a","until":"2026-11-30T00:00:00Z"}"#);
        entry("token.block", "wv-1", r#"{"name":"0a","until":"2026-11-29T00:00:00Z"}"#);
        entry("key.add", "wv-1", r#"{"kid":"k","fingerprint":"dd"}"#);
        entry("enroll.batch", "2 credentials", r#"{"count":2,"listed":2,"list_sha256":"x","credentials_sha256":"cc"}"#);
        let standing = |id: &str| replay.devices.get(id).copied().unwrap_or_default();
        assert_eq!(standing("wv-1"), DeviceStanding { out: true, ..DeviceStanding::default() });
        assert_eq!((standing("wv-2"), standing("wv-4")), (DeviceStanding::default(), DeviceStanding::default()));
        assert!(standing("wv-5").retired && !standing("wv-3").out);
        assert_eq!(replay.revoked.len(), 5);
        assert_eq!((&replay.owners["wv-6"], &replay.owners["wv-7"]), (&Some("mole".to_owned()), &None));
        assert_eq!(replay.editions[&7], "bb");
        assert_eq!(replay.authorities["devices"], ("aa".to_owned(), true));
        let asked: Vec<_> = replay.asked.iter().map(|(id, refused)| (id.as_str(), *refused)).collect();
        assert_eq!(asked, [("asking-1", false), ("asking-2", true)]);
        assert_eq!((&*replay.introduced["cb-1"], &*replay.introduced["cb-2"]), ("waits", "accepted"));
        assert_eq!(
            (&replay.signers["tokens-2"], &replay.signers["tokens"]),
            (&("k2".to_owned(), false), &("k1".to_owned(), true))
        );
        assert_eq!(replay.blocks["0a"].to_string(), "2026-11-30T00:00:00Z");
        assert_eq!((&replay.recorded[&28].1, &replay.recorded[&29]), (&"dd".to_owned(), &(2, "cc".to_owned())));
        assert!(!replay.unnamed && replay.blocked == 3);
    }
}
