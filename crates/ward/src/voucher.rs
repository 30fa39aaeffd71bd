//! Ownership vouchers: the ward says to a device whose it is.

use serde_json::json;
use tidy_warden_core::certificate::{Certificate, Usage};
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::fact::FactName;
use tidy_warden_core::id::{DeviceId, OwnerId};
use tidy_warden_core::key::sha256;
use tidy_warden_core::voucher::{Fresh, Voucher, VoucherForm};
use tidy_warden_store::VOUCHERS;
use tidy_warden_store::acts::record;

use crate::keys::Openers;
use crate::open::Ward;
use crate::own_key::OwnKey;
use crate::problem::Problem;

/// How the key that signs them is kept.
const KEPT_AS: OwnKey = OwnKey {
    name: VOUCHERS,
    what: "the key that signs vouchers",
    usage: Usage::Vouchers,
    because: "vouchers are signed with a key of their own",
};

/// What a device calls its serial number: the fact, or its id if that is not known.
#[must_use]
pub fn serial_of(device: &DeviceRecord) -> String {
    device.facts.get(&FactName::Serial).map_or_else(|| device.id.to_string(), |fact| fact.value().to_owned())
}

/// Signs a voucher for a device that is this owner's, and records that it was.
pub fn issue(
    ward: &mut Ward,
    (id, owner): (&DeviceId, &OwnerId),
    pinned: &Certificate,
    (form, fresh): (VoucherForm, Fresh),
    openers: &dyn Openers,
    because: Option<&str>,
) -> Result<(Vec<u8>, Voucher), Problem> {
    let device = ward.device(id)?.device;
    let refused = || Problem::refused(format!("no voucher was made for `{id}`"));
    if let Some(barred) = device.barred() {
        return Err(refused().because(barred).next(format!("device show {id}")));
    }
    if device.owner.as_ref() != Some(owner) {
        return Err(refused()
            .because(match &device.owner {
                Some(other) => format!("it is {other}'s, not {owner}'s"),
                None => "it has no owner".to_owned(),
            })
            .next(format!("device show {id}")));
    }
    let (key, chain) = KEPT_AS.open(ward, openers)?;
    let ends = chain.iter().map(|each| each.not_after).min().unwrap_or(ward.now());
    let now = ward.now();
    // Nothing is believed longer than whoever signed it.
    let fresh = match fresh {
        Fresh::Until(until) if until > ends => Fresh::Until(ends),
        fresh => fresh,
    };
    let voucher = Voucher { created: now, serial: serial_of(&device), owner: pinned.der().to_vec(), fresh };
    let chain: Vec<&Certificate> = chain.iter().collect();
    let octets = voucher
        .sign(form, &chain, &*key)
        .map_err(|error| Problem::failed("the voucher was not signed").because(error))?;
    let detail = json!({
        "owner": owner, "pinned": pinned.fingerprint.to_string(), "sha256": data_encoding::HEXLOWER.encode(&sha256(&octets)),
        "ends": voucher.ends(),
    });
    let cause = ward.cause(because);
    let noted = ward.store.decide(|tx| {
        // It may have changed hands while the key was opened.
        let now = tx.devices(std::slice::from_ref(id))?.pop().flatten().map(|found| found.device);
        if now.is_none_or(|now| now.owner.as_ref() != Some(owner) || now.barred().is_some()) {
            return Ok(Err(()));
        }
        record::note(tx, "claim.voucher", id.as_str(), &detail.to_string(), &cause).map(Ok)
    })?;
    noted.map_err(|()| refused().because("it changed hands just now"))?;
    Ok((octets, voucher))
}
