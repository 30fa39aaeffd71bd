//! Owners and claims.

use tidy_warden_core::claim::{HandOver, OpenClaim, OpenedBy, Ownership, Scope, Tries};
use tidy_warden_core::id::{DeviceId, OwnerId};
use tidy_warden_core::owner::OwnerRecord;
use tidy_warden_core::time::UnixTime;
use tokio_postgres::Row;
use tokio_postgres::types::ToSql;

use super::Database;
use super::connection::{Connection, get};
use super::rows;
use crate::contract::halves;
use crate::{OwnerPass, PassKind, ReadClaims, StoreError, WriteClaims};

const OWNERS: &str = "SELECT name, contact, salt, places, added, retired, signed_in_from FROM owners";

const HAND_OVERS: &str = "SELECT device, owner, heir, offered, ends FROM hand_overs";

fn owner(row: &Row) -> Result<OwnerRecord, StoreError> {
    Ok(OwnerRecord {
        id: rows::word(row, 0, "owner")?,
        contact: rows::maybe_word(row, 1, "contact")?,
        salt: rows::digest(row, 2, "owner")?,
        places: rows::places(get(row, 3)?)?,
        added: UnixTime(get(row, 4)?),
        retired: rows::time(get(row, 5)?),
        signed_in_from: UnixTime(get(row, 6)?),
    })
}

fn table(by: OpenedBy) -> &'static str {
    match by {
        OpenedBy::Person => "claims",
        OpenedBy::Device => "claim_windows",
    }
}

fn claim(by: OpenedBy) -> impl Fn(&Row) -> Result<OpenClaim, StoreError> {
    move |row| {
        Ok(OpenClaim {
            device: rows::word(row, 0, "id")?,
            by,
            code: rows::code(rows::maybe_digest(row, 1, "code")?, rows::maybe_digest(row, 2, "code")?)?,
            opened: UnixTime(get(row, 3)?),
            ends: UnixTime(get(row, 4)?),
        })
    }
}

fn hand_over(row: &Row) -> Result<HandOver, StoreError> {
    Ok(HandOver {
        device: rows::word(row, 0, "id")?,
        from: rows::word(row, 1, "owner")?,
        to: rows::word(row, 2, "owner")?,
        offered: UnixTime(get(row, 3)?),
        ends: UnixTime(get(row, 4)?),
    })
}

fn ownership(row: &Row) -> Result<Ownership, StoreError> {
    let went = rows::maybe_word(row, 7, "claim")?;
    Ok(Ownership {
        number: get(row, 0)?,
        device: rows::word(row, 1, "id")?,
        owner: rows::word(row, 2, "owner")?,
        came: rows::word(row, 3, "claim")?,
        began: UnixTime(get(row, 4)?),
        place: rows::place(get(row, 5)?)?,
        ended: rows::time(get(row, 6)?).zip(went),
    })
}

fn pass(row: &Row) -> Result<OwnerPass, StoreError> {
    Ok(OwnerPass {
        digest: rows::digest(row, 0, "pass")?,
        kind: rows::word(row, 1, "pass")?,
        owner: rows::word(row, 2, "owner")?,
        made: UnixTime(get(row, 3)?),
        ends: UnixTime(get(row, 4)?),
        used: rows::time(get(row, 5)?),
    })
}

impl Database {
    fn all_of<T>(
        &self,
        sql: &str,
        values: &[&(dyn ToSql + Sync)],
        read: impl Fn(&Row) -> Result<T, StoreError>,
    ) -> Result<Vec<T>, StoreError> {
        self.connection.rows(sql, values)?.iter().map(read).collect()
    }

    fn maybe_one<T>(
        &self,
        sql: &str,
        values: &[&(dyn ToSql + Sync)],
        read: impl Fn(&Row) -> Result<T, StoreError>,
    ) -> Result<Option<T>, StoreError> {
        self.connection.maybe(sql, values)?.as_ref().map(read).transpose()
    }
}

impl ReadClaims for Database {
    fn owner(&self, id: &OwnerId) -> Result<Option<OwnerRecord>, StoreError> {
        self.maybe_one(&format!("{OWNERS} WHERE name = $1"), &[&id.as_str()], owner)
    }

    fn owners(&self, after: &str, limit: usize) -> Result<Vec<OwnerRecord>, StoreError> {
        let sql = format!("{OWNERS} WHERE name > $1 ORDER BY name LIMIT $2");
        self.all_of(&sql, &[&after, &rows::limit(limit)], owner)
    }

    fn owned(&self, owner: &OwnerId, after: &str, limit: usize) -> Result<Vec<DeviceId>, StoreError> {
        let sql = "SELECT id FROM devices WHERE owner = $1 AND id > $2 AND retired IS NULL ORDER BY owner, id LIMIT $3";
        self.all_of(sql, &[&owner.as_str(), &after, &rows::limit(limit)], |row| rows::word(row, 0, "id"))
    }

    fn count_owned(&self, owner: &OwnerId) -> Result<u64, StoreError> {
        let sql = "SELECT count(*) FROM devices WHERE owner = $1 AND retired IS NULL";
        rows::count(get(&self.connection.one(sql, &[&owner.as_str()])?, 0)?)
    }

    fn count_admitted(&self, owner: &OwnerId, now: UnixTime) -> Result<u64, StoreError> {
        let sql = "SELECT count(*) FROM admissions WHERE coalesce(state, '') = '' AND until >= $2 AND owner = $1";
        rows::count(get(&self.connection.one(sql, &[&owner.as_str(), &now.0])?, 0)?)
    }

    fn claim(&self, device: &DeviceId, by: OpenedBy) -> Result<Option<OpenClaim>, StoreError> {
        let sql = format!("SELECT device, salt, digest, opened, ends FROM {} WHERE device = $1", table(by));
        self.maybe_one(&sql, &[&device.as_str()], claim(by))
    }

    fn claims(&self, by: OpenedBy, after: &str, limit: usize) -> Result<Vec<OpenClaim>, StoreError> {
        let sql = format!(
            "SELECT device, salt, digest, opened, ends FROM {} WHERE device > $1 ORDER BY device LIMIT $2",
            table(by)
        );
        self.all_of(&sql, &[&after, &rows::limit(limit)], claim(by))
    }

    fn hand_over(&self, device: &DeviceId) -> Result<Option<HandOver>, StoreError> {
        self.maybe_one(&format!("{HAND_OVERS} WHERE device = $1"), &[&device.as_str()], hand_over)
    }

    fn hand_overs(&self, to: Option<&OwnerId>, after: &str, limit: usize) -> Result<Vec<HandOver>, StoreError> {
        let limit = rows::limit(limit);
        match to {
            Some(to) => {
                let sql = format!("{HAND_OVERS} WHERE heir = $1 AND device > $2 ORDER BY heir, device LIMIT $3");
                self.all_of(&sql, &[&to.as_str(), &after, &limit], hand_over)
            }
            None => {
                let sql = format!("{HAND_OVERS} WHERE device > $1 ORDER BY device LIMIT $2");
                self.all_of(&sql, &[&after, &limit], hand_over)
            }
        }
    }

    fn ownerships(&self, device: &DeviceId, limit: usize) -> Result<Vec<Ownership>, StoreError> {
        let sql = "SELECT number, device, owner, came, began, place, ended, went FROM ownerships WHERE device = $1
             ORDER BY device DESC, number DESC LIMIT $2";
        self.all_of(sql, &[&device.as_str(), &rows::limit(limit)], ownership)
    }

    fn tries(&self, scope: Scope, name: &str) -> Result<Option<Tries>, StoreError> {
        let sql = "SELECT count, since, last FROM claim_tries WHERE scope = $1 AND name = $2";
        self.maybe_one(sql, &[&scope.as_str(), &name], |row| {
            Ok(Tries {
                count: rows::small(row, 0, "count")?,
                since: UnixTime(get(row, 1)?),
                last: UnixTime(get(row, 2)?),
            })
        })
    }

    fn owner_pass(&self, digest: &[u8; 32]) -> Result<Option<OwnerPass>, StoreError> {
        let sql = "SELECT digest, kind, owner, made, ends, used FROM owner_passes WHERE digest = $1";
        self.maybe_one(sql, &[&digest.as_slice()], pass)
    }

    fn count_owner_passes(&self, owner: &OwnerId, kind: PassKind) -> Result<u64, StoreError> {
        let sql = "SELECT count(*) FROM owner_passes WHERE owner = $1 AND kind = $2";
        rows::count(get(&self.connection.one(sql, &[&owner.as_str(), &kind.as_str()])?, 0)?)
    }
}

impl WriteClaims for Database {
    fn put_owner(&mut self, owner: &OwnerRecord) -> Result<(), StoreError> {
        let OwnerRecord { id, contact, salt, places, added, retired, signed_in_from } = owner;
        self.connection.write(
            "INSERT INTO owners (name, contact, salt, places, added, retired, signed_in_from)
             VALUES ($1, $2, $3, $4, $5, $6, $7)
             ON CONFLICT (name) DO UPDATE SET contact = excluded.contact, salt = excluded.salt, places = excluded.places,
                 added = excluded.added, retired = excluded.retired, signed_in_from = excluded.signed_in_from",
            &[
                &id.as_str(),
                &contact.as_ref().map(|contact| contact.as_str()),
                &salt.as_slice(),
                &rows::places_text(places),
                &added.0,
                &retired.map(|at| at.0),
                &signed_in_from.0,
            ],
        )
    }

    fn put_claim(&mut self, claim: &OpenClaim) -> Result<(), StoreError> {
        put_claim(&self.connection, claim)
    }

    fn drop_claims(&mut self, of: Option<&DeviceId>) -> Result<(), StoreError> {
        for by in [OpenedBy::Person, OpenedBy::Device] {
            let table = table(by);
            match of {
                Some(of) => {
                    self.connection.write(&format!("DELETE FROM {table} WHERE device = $1"), &[&of.as_str()])?;
                }
                None => self.connection.write(&format!("DELETE FROM {table}"), &[])?,
            }
        }
        Ok(())
    }

    fn put_hand_over(&mut self, offer: &HandOver) -> Result<(), StoreError> {
        let HandOver { device, from, to, offered, ends } = offer;
        self.connection.write(
            "INSERT INTO hand_overs (device, owner, heir, offered, ends) VALUES ($1, $2, $3, $4, $5)
             ON CONFLICT (device) DO UPDATE SET owner = excluded.owner, heir = excluded.heir, offered = excluded.offered,
                 ends = excluded.ends",
            &[&device.as_str(), &from.as_str(), &to.as_str(), &offered.0, &ends.0],
        )
    }

    fn drop_hand_overs(&mut self, of: Option<&DeviceId>) -> Result<(), StoreError> {
        match of {
            Some(of) => self.connection.write("DELETE FROM hand_overs WHERE device = $1", &[&of.as_str()]),
            None => self.connection.write("DELETE FROM hand_overs", &[]),
        }
    }

    fn drop_hand_overs_to(&mut self, owner: &OwnerId) -> Result<(), StoreError> {
        self.connection.write("DELETE FROM hand_overs WHERE heir = $1", &[&owner.as_str()])
    }

    fn put_ownership(&mut self, ownership: &Ownership) -> Result<(), StoreError> {
        let Ownership { number, device, owner, came, began, place, ended } = ownership;
        let (ended, went) = ended.map(|(at, went)| (at.0, went.as_str())).unzip();
        self.connection.write(
            "INSERT INTO ownerships (number, device, owner, came, began, place, ended, went)
             SELECT CASE WHEN $1::bigint > 0 THEN $1::bigint ELSE (SELECT coalesce(max(number), 0) + 1 FROM ownerships) END,
                 $2, $3, $4, $5, $6, $7, $8
             ON CONFLICT (number) DO UPDATE SET ended = excluded.ended, went = excluded.went",
            &[
                number,
                &device.as_str(),
                &owner.as_str(),
                &came.as_str(),
                &began.0,
                &rows::place_text(place),
                &ended,
                &went,
            ],
        )
    }

    fn put_tries(&mut self, scope: Scope, name: &str, tries: Option<Tries>) -> Result<(), StoreError> {
        let Some(Tries { count, since, last }) = tries else {
            let sql = "DELETE FROM claim_tries WHERE scope = $1 AND name = $2";
            return self.connection.write(sql, &[&scope.as_str(), &name]);
        };
        let (owner, device) = halves(scope, name);
        self.connection.write(
            "INSERT INTO claim_tries (scope, name, owner, device, count, since, last) VALUES ($1, $2, $3, $4, $5, $6, $7)
             ON CONFLICT (scope, name) DO UPDATE SET count = excluded.count, since = excluded.since, last = excluded.last",
            &[&scope.as_str(), &name, &owner, &device, &i64::from(count), &since.0, &last.0],
        )
    }

    fn drop_tries_at(&mut self, device: &DeviceId) -> Result<(), StoreError> {
        self.connection.write("DELETE FROM claim_tries WHERE device = $1", &[&device.as_str()])
    }

    fn drop_tries_of(&mut self, owner: &OwnerId) -> Result<(), StoreError> {
        self.connection.write("DELETE FROM claim_tries WHERE owner = $1", &[&owner.as_str()])
    }

    fn drop_old_tries(&mut self, before: UnixTime, limit: usize) -> Result<(), StoreError> {
        let sql = "DELETE FROM claim_tries WHERE (scope, name) IN
             (SELECT scope, name FROM claim_tries WHERE last < $1 ORDER BY last, scope, name LIMIT $2)";
        self.connection.write(sql, &[&before.0, &rows::limit(limit)])
    }

    fn put_owner_pass(&mut self, pass: &OwnerPass) -> Result<(), StoreError> {
        let OwnerPass { digest, kind, owner, made, ends, used } = pass;
        self.connection.write(
            "INSERT INTO owner_passes (digest, kind, owner, made, ends, used) VALUES ($1, $2, $3, $4, $5, $6)
             ON CONFLICT (digest) DO UPDATE SET ends = excluded.ends, used = excluded.used",
            &[&digest.as_slice(), &kind.as_str(), &owner.as_str(), &made.0, &ends.0, &used.map(|at| at.0)],
        )
    }

    fn drop_owner_pass(&mut self, digest: &[u8; 32]) -> Result<(), StoreError> {
        self.connection.write("DELETE FROM owner_passes WHERE digest = $1", &[&digest.as_slice()])
    }

    fn drop_owner_passes(&mut self, owner: &OwnerId) -> Result<(), StoreError> {
        self.connection.write("DELETE FROM owner_passes WHERE owner = $1", &[&owner.as_str()])
    }

    fn sign_owners_out(&mut self, from: UnixTime) -> Result<(), StoreError> {
        self.connection.write("DELETE FROM owner_passes", &[])?;
        self.connection.write("UPDATE owners SET signed_in_from = $1 WHERE signed_in_from < $1", &[&from.0])
    }

    fn drop_old_owner_passes(&mut self, before: UnixTime, limit: usize) -> Result<(), StoreError> {
        let sql = "DELETE FROM owner_passes WHERE digest IN
             (SELECT digest FROM owner_passes WHERE ends < $1 ORDER BY ends, digest LIMIT $2)";
        self.connection.write(sql, &[&before.0, &rows::limit(limit)])
    }
}

fn put_claim(connection: &Connection, claim: &OpenClaim) -> Result<(), StoreError> {
    let OpenClaim { device, by, code, opened, ends } = claim;
    let sql = format!(
        "INSERT INTO {} (device, salt, digest, opened, ends) VALUES ($1, $2, $3, $4, $5)
         ON CONFLICT (device) DO UPDATE SET salt = excluded.salt, digest = excluded.digest, opened = excluded.opened,
             ends = excluded.ends",
        table(*by)
    );
    let (salt, digest) = code.as_ref().map(|code| (code.salt.as_slice(), code.digest.as_slice())).unzip();
    connection.write(&sql, &[&device.as_str(), &salt, &digest, &opened.0, &ends.0])
}

/// Notes that devices opened themselves.
pub(super) fn open_windows(connection: &Connection, windows: &[OpenClaim]) -> Result<(), StoreError> {
    windows.iter().filter(|window| window.by == OpenedBy::Device).try_for_each(|window| put_claim(connection, window))
}
