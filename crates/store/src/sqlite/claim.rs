//! Owners and claims.

use rusqlite::{Connection, OptionalExtension, Row, ToSql, params};
use tidy_warden_core::claim::{HandOver, OpenClaim, OpenedBy, Ownership, Scope, Tries};
use tidy_warden_core::id::{DeviceId, OwnerId};
use tidy_warden_core::owner::OwnerRecord;
use tidy_warden_core::time::UnixTime;

use super::rows::{self, damaged, parsed};
use super::{Sql, SqliteTx};
use crate::contract::halves;
use crate::{OwnerPass, PassKind, ReadClaims, StoreError, WriteClaims};

const OWNERS: &str = "SELECT name, contact, salt, places, added, retired, signed_in_from FROM owners";

const HAND_OVERS: &str = "SELECT device, owner, heir, offered, ends FROM hand_overs";

/// Up to all rows of a query.
fn all<T>(
    store: &impl Sql,
    sql: &str,
    values: &[&dyn ToSql],
    read: impl Fn(&Row<'_>) -> Result<T, StoreError>,
) -> Result<Vec<T>, StoreError> {
    let mut statement = store.sql().prepare_cached(sql)?;
    let mut found = statement.query(values)?;
    let mut all = Vec::new();
    while let Some(row) = found.next()? {
        all.push(read(row)?);
    }
    Ok(all)
}

fn word<T: std::str::FromStr>(row: &Row<'_>, at: usize, what: &str) -> Result<T, StoreError> {
    parsed(row.get_ref(at)?.as_str().map_err(|_| damaged(what))?, what)
}

fn owner(row: &Row<'_>) -> Result<OwnerRecord, StoreError> {
    Ok(OwnerRecord {
        id: word(row, 0, "owner")?,
        contact: row.get::<_, Option<String>>(1)?.map(|text| parsed(&text, "contact")).transpose()?,
        salt: row.get(2)?,
        places: rows::places(row.get_ref(3)?.as_str().map_err(|_| damaged("place"))?)?,
        added: UnixTime(row.get(4)?),
        retired: rows::time(row.get(5)?),
        signed_in_from: UnixTime(row.get(6)?),
    })
}

fn table(by: OpenedBy) -> &'static str {
    match by {
        OpenedBy::Person => "claims",
        OpenedBy::Device => "claim_windows",
    }
}

fn claim(by: OpenedBy) -> impl Fn(&Row<'_>) -> Result<OpenClaim, StoreError> {
    move |row| {
        Ok(OpenClaim {
            device: word(row, 0, "id")?,
            by,
            code: rows::code(row.get(1)?, row.get(2)?)?,
            opened: UnixTime(row.get(3)?),
            ends: UnixTime(row.get(4)?),
        })
    }
}

fn hand_over(row: &Row<'_>) -> Result<HandOver, StoreError> {
    Ok(HandOver {
        device: word(row, 0, "id")?,
        from: word(row, 1, "owner")?,
        to: word(row, 2, "owner")?,
        offered: UnixTime(row.get(3)?),
        ends: UnixTime(row.get(4)?),
    })
}

fn ownership(row: &Row<'_>) -> Result<Ownership, StoreError> {
    let went: Option<String> = row.get(7)?;
    Ok(Ownership {
        number: row.get(0)?,
        device: word(row, 1, "id")?,
        owner: word(row, 2, "owner")?,
        came: word(row, 3, "claim")?,
        began: UnixTime(row.get(4)?),
        place: rows::place(row.get_ref(5)?.as_str().map_err(|_| damaged("place"))?)?,
        ended: match (rows::time(row.get(6)?), went) {
            (Some(at), Some(went)) => Some((at, parsed(&went, "claim")?)),
            _ => None,
        },
    })
}

fn pass(row: &Row<'_>) -> Result<OwnerPass, StoreError> {
    Ok(OwnerPass {
        digest: row.get(0)?,
        kind: word(row, 1, "pass")?,
        owner: word(row, 2, "owner")?,
        made: UnixTime(row.get(3)?),
        ends: UnixTime(row.get(4)?),
        used: rows::time(row.get(5)?),
    })
}

impl<S: Sql> ReadClaims for S {
    fn owner(&self, id: &OwnerId) -> Result<Option<OwnerRecord>, StoreError> {
        Ok(all(self, &format!("{OWNERS} WHERE name = ?1"), &[&id.as_str()], owner)?.pop())
    }

    fn owners(&self, after: &str, limit: usize) -> Result<Vec<OwnerRecord>, StoreError> {
        let sql = format!("{OWNERS} WHERE name > ?1 ORDER BY name LIMIT ?2");
        all(self, &sql, &[&after, &rows::limit(limit)], owner)
    }

    fn owned(&self, owner: &OwnerId, after: &str, limit: usize) -> Result<Vec<DeviceId>, StoreError> {
        let sql = "SELECT id FROM devices INDEXED BY devices_by_owner WHERE owner = ?1 AND id > ?2 AND retired IS NULL
             ORDER BY id LIMIT ?3";
        all(self, sql, &[&owner.as_str(), &after, &rows::limit(limit)], |row| word(row, 0, "id"))
    }

    fn count_owned(&self, owner: &OwnerId) -> Result<u64, StoreError> {
        let sql = "SELECT count(*) FROM devices INDEXED BY devices_by_owner WHERE owner = ?1 AND retired IS NULL";
        rows::count(self.sql().prepare_cached(sql)?.query_row([owner.as_str()], |row| row.get(0))?)
    }

    fn count_admitted(&self, owner: &OwnerId, now: UnixTime) -> Result<u64, StoreError> {
        let sql = "SELECT count(*) FROM admissions INDEXED BY admissions_by_end
             WHERE state IS NULL AND until >= ?2 AND owner = ?1";
        rows::count(self.sql().prepare_cached(sql)?.query_row(params![owner.as_str(), now.0], |row| row.get(0))?)
    }

    fn claim(&self, device: &DeviceId, by: OpenedBy) -> Result<Option<OpenClaim>, StoreError> {
        let sql = format!("SELECT device, salt, digest, opened, ends FROM {} WHERE device = ?1", table(by));
        Ok(all(self, &sql, &[&device.as_str()], claim(by))?.pop())
    }

    fn claims(&self, by: OpenedBy, after: &str, limit: usize) -> Result<Vec<OpenClaim>, StoreError> {
        let sql = format!(
            "SELECT device, salt, digest, opened, ends FROM {} WHERE device > ?1 ORDER BY device LIMIT ?2",
            table(by)
        );
        all(self, &sql, &[&after, &rows::limit(limit)], claim(by))
    }

    fn hand_over(&self, device: &DeviceId) -> Result<Option<HandOver>, StoreError> {
        Ok(all(self, &format!("{HAND_OVERS} WHERE device = ?1"), &[&device.as_str()], hand_over)?.pop())
    }

    fn hand_overs(&self, to: Option<&OwnerId>, after: &str, limit: usize) -> Result<Vec<HandOver>, StoreError> {
        let limit = rows::limit(limit);
        match to {
            Some(to) => {
                let sql = format!("{HAND_OVERS} WHERE heir = ?1 AND device > ?2 ORDER BY device LIMIT ?3");
                all(self, &sql, &[&to.as_str(), &after, &limit], hand_over)
            }
            None => {
                let sql = format!("{HAND_OVERS} WHERE device > ?1 ORDER BY device LIMIT ?2");
                all(self, &sql, &[&after, &limit], hand_over)
            }
        }
    }

    fn ownerships(&self, device: &DeviceId, limit: usize) -> Result<Vec<Ownership>, StoreError> {
        let sql = "SELECT number, device, owner, came, began, place, ended, went FROM ownerships WHERE device = ?1
             ORDER BY number DESC LIMIT ?2";
        all(self, sql, &[&device.as_str(), &rows::limit(limit)], ownership)
    }

    fn tries(&self, scope: Scope, name: &str) -> Result<Option<Tries>, StoreError> {
        let sql = "SELECT count, since, last FROM claim_tries WHERE scope = ?1 AND name = ?2";
        let read =
            |row: &Row<'_>| Ok(Tries { count: row.get(0)?, since: UnixTime(row.get(1)?), last: UnixTime(row.get(2)?) });
        Ok(self.sql().prepare_cached(sql)?.query_row(params![scope.as_str(), name], read).optional()?)
    }

    fn owner_pass(&self, digest: &[u8; 32]) -> Result<Option<OwnerPass>, StoreError> {
        let sql = "SELECT digest, kind, owner, made, ends, used FROM owner_passes WHERE digest = ?1";
        Ok(all(self, sql, &[digest], pass)?.pop())
    }

    fn count_owner_passes(&self, owner: &OwnerId, kind: PassKind) -> Result<u64, StoreError> {
        let sql = "SELECT count(*) FROM owner_passes WHERE owner = ?1 AND kind = ?2";
        let values = params![owner.as_str(), kind.as_str()];
        rows::count(self.sql().prepare_cached(sql)?.query_row(values, |row| row.get(0))?)
    }
}

impl SqliteTx<'_> {
    fn execute(&self, sql: &str, values: &[&dyn ToSql]) -> Result<(), StoreError> {
        self.sql().prepare_cached(sql)?.execute(values)?;
        Ok(())
    }
}

impl WriteClaims for SqliteTx<'_> {
    fn put_owner(&mut self, owner: &OwnerRecord) -> Result<(), StoreError> {
        let OwnerRecord { id, contact, salt, places, added, retired, signed_in_from } = owner;
        let sql = "INSERT OR REPLACE INTO owners (name, contact, salt, places, added, retired, signed_in_from)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)";
        let contact = contact.as_ref().map(|contact| contact.as_str());
        let retired = retired.map(|at| at.0);
        self.execute(
            sql,
            params![id.as_str(), contact, salt, rows::places_text(places), added.0, retired, signed_in_from.0],
        )
    }

    fn put_claim(&mut self, claim: &OpenClaim) -> Result<(), StoreError> {
        put_claim(self.sql(), claim)
    }

    fn drop_claims(&mut self, of: Option<&DeviceId>) -> Result<(), StoreError> {
        for by in [OpenedBy::Person, OpenedBy::Device] {
            match of {
                Some(of) => self.execute(&format!("DELETE FROM {} WHERE device = ?1", table(by)), &[&of.as_str()])?,
                None => self.execute(&format!("DELETE FROM {}", table(by)), &[])?,
            }
        }
        Ok(())
    }

    fn put_hand_over(&mut self, offer: &HandOver) -> Result<(), StoreError> {
        let HandOver { device, from, to, offered, ends } = offer;
        let sql = "INSERT OR REPLACE INTO hand_overs (device, owner, heir, offered, ends) VALUES (?1, ?2, ?3, ?4, ?5)";
        self.execute(sql, params![device.as_str(), from.as_str(), to.as_str(), offered.0, ends.0])
    }

    fn drop_hand_overs(&mut self, of: Option<&DeviceId>) -> Result<(), StoreError> {
        match of {
            Some(of) => self.execute("DELETE FROM hand_overs WHERE device = ?1", &[&of.as_str()]),
            None => self.execute("DELETE FROM hand_overs", &[]),
        }
    }

    fn drop_hand_overs_to(&mut self, owner: &OwnerId) -> Result<(), StoreError> {
        self.execute("DELETE FROM hand_overs WHERE heir = ?1", &[&owner.as_str()])
    }

    fn put_ownership(&mut self, ownership: &Ownership) -> Result<(), StoreError> {
        let Ownership { number, device, owner, came, began, place, ended } = ownership;
        let sql = "INSERT OR REPLACE INTO ownerships (number, device, owner, came, began, place, ended, went)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)";
        let number = (*number > 0).then_some(*number);
        let (ended, went) = ended.map(|(at, went)| (at.0, went.as_str())).unzip();
        let place = rows::place_text(place);
        let values = params![number, device.as_str(), owner.as_str(), came.as_str(), began.0, place, ended, went];
        self.execute(sql, values)
    }

    fn put_tries(&mut self, scope: Scope, name: &str, tries: Option<Tries>) -> Result<(), StoreError> {
        let Some(Tries { count, since, last }) = tries else {
            return self
                .execute("DELETE FROM claim_tries WHERE scope = ?1 AND name = ?2", params![scope.as_str(), name]);
        };
        let (owner, device) = halves(scope, name);
        let sql = "INSERT OR REPLACE INTO claim_tries (scope, name, owner, device, count, since, last)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)";
        self.execute(sql, params![scope.as_str(), name, owner, device, count, since.0, last.0])
    }

    fn drop_tries_at(&mut self, device: &DeviceId) -> Result<(), StoreError> {
        self.execute("DELETE FROM claim_tries WHERE device = ?1", &[&device.as_str()])
    }

    fn drop_tries_of(&mut self, owner: &OwnerId) -> Result<(), StoreError> {
        self.execute("DELETE FROM claim_tries WHERE owner = ?1", &[&owner.as_str()])
    }

    fn drop_old_tries(&mut self, before: UnixTime, limit: usize) -> Result<(), StoreError> {
        let sql = "DELETE FROM claim_tries WHERE (scope, name) IN
             (SELECT scope, name FROM claim_tries WHERE last < ?1 ORDER BY last, scope, name LIMIT ?2)";
        self.execute(sql, params![before.0, rows::limit(limit)])
    }

    fn put_owner_pass(&mut self, pass: &OwnerPass) -> Result<(), StoreError> {
        let OwnerPass { digest, kind, owner, made, ends, used } = pass;
        let sql = "INSERT OR REPLACE INTO owner_passes (digest, kind, owner, made, ends, used)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6)";
        self.execute(sql, params![digest, kind.as_str(), owner.as_str(), made.0, ends.0, used.map(|at| at.0)])
    }

    fn drop_owner_pass(&mut self, digest: &[u8; 32]) -> Result<(), StoreError> {
        self.execute("DELETE FROM owner_passes WHERE digest = ?1", &[digest])
    }

    fn drop_owner_passes(&mut self, owner: &OwnerId) -> Result<(), StoreError> {
        self.execute("DELETE FROM owner_passes WHERE owner = ?1", &[&owner.as_str()])
    }

    fn sign_owners_out(&mut self, from: UnixTime) -> Result<(), StoreError> {
        self.execute("DELETE FROM owner_passes", &[])?;
        self.execute("UPDATE owners SET signed_in_from = ?1 WHERE signed_in_from < ?1", &[&from.0])
    }

    fn drop_old_owner_passes(&mut self, before: UnixTime, limit: usize) -> Result<(), StoreError> {
        let sql = "DELETE FROM owner_passes WHERE digest IN
             (SELECT digest FROM owner_passes WHERE ends < ?1 ORDER BY ends, digest LIMIT ?2)";
        self.execute(sql, params![before.0, rows::limit(limit)])
    }
}

fn put_claim(connection: &Connection, claim: &OpenClaim) -> Result<(), StoreError> {
    let OpenClaim { device, by, code, opened, ends } = claim;
    let sql = format!(
        "INSERT OR REPLACE INTO {} (device, salt, digest, opened, ends) VALUES (?1, ?2, ?3, ?4, ?5)",
        table(*by)
    );
    let (salt, digest) = code.map(|code| (code.salt, code.digest)).unzip();
    connection.prepare_cached(&sql)?.execute(params![device.as_str(), salt, digest, opened.0, ends.0])?;
    Ok(())
}

/// Notes that devices opened themselves.
pub(super) fn open_windows(connection: &Connection, windows: &[OpenClaim]) -> Result<(), StoreError> {
    windows.iter().filter(|window| window.by == OpenedBy::Device).try_for_each(|window| put_claim(connection, window))
}
