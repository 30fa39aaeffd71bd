//! Authorities and what their CRLs list.

use rusqlite::{Connection, OptionalExtension, params};
use tidy_warden_core::authority::{AuthorityRecord, PendingAuthority};
use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::id::AuthorityName;
use tidy_warden_core::key::PublicKey;
use tidy_warden_core::revocation::{Reason, Revoked};
use tidy_warden_core::time::UnixTime;

use super::rows::{self, damaged};
use super::{Sql, SqliteTx, record};
use crate::{NewestCrl, ReadAuthorities, Signed, StoreError, WriteAuthorities};

impl<S: Sql> ReadAuthorities for S {
    fn authorities(&self) -> Result<Vec<AuthorityRecord>, StoreError> {
        let mut statement = self.sql().prepare_cached(
            "SELECT name, role, certificate, crl_number, crl_at, crl_pending, created, key_place, token, token_label,
                 replaces, retired, trust_kinds, trust_fact, pk, crl_until FROM authorities ORDER BY pk",
        )?;
        let mut crosses =
            self.sql().prepare_cached("SELECT certificate FROM crosses WHERE authority = ?1 ORDER BY fingerprint")?;
        let mut found = statement.query([])?;
        let mut all = Vec::new();
        while let Some(row) = found.next()? {
            let mut crossed = Vec::new();
            let mut certificates = crosses.query([row.get::<_, i64>(14)?])?;
            while let Some(row) = certificates.next()? {
                crossed.push(rows::certificate(&row.get::<_, Vec<u8>>(0)?)?);
            }
            let replaces = row.get::<_, Option<String>>(10)?;
            all.push(AuthorityRecord {
                name: rows::parsed(&row.get::<_, String>(0)?, "authority")?,
                role: rows::role(&row.get::<_, String>(1)?)?,
                certificate: rows::certificate(&row.get::<_, Vec<u8>>(2)?)?,
                crossed,
                created: UnixTime(row.get(6)?),
                key: rows::key_place(&row.get::<_, String>(7)?, row.get(8)?, row.get(9)?)?,
                replaces: replaces.map(|name| rows::parsed(&name, "authority")).transpose()?,
                retired: rows::time(row.get(11)?),
                trust: rows::trust(row.get(12)?, row.get(13)?)?,
                crl_number: row.get::<_, i64>(3)?.unsigned_abs(),
                crl_at: rows::time(row.get(4)?),
                crl_until: rows::time(row.get(15)?),
                crl_pending: row.get::<_, i64>(5)? != 0,
            });
        }
        Ok(all)
    }

    fn pending_authorities(&self) -> Result<Vec<PendingAuthority>, StoreError> {
        let mut statement = self.sql().prepare_cached(
            "SELECT name, role, public_key, key_place, token, token_label, created FROM pending_authorities
             ORDER BY name",
        )?;
        let mut found = statement.query([])?;
        let mut all = Vec::new();
        while let Some(row) = found.next()? {
            all.push(PendingAuthority {
                name: rows::parsed(&row.get::<_, String>(0)?, "authority")?,
                role: rows::role(&row.get::<_, String>(1)?)?,
                public_key: PublicKey::from_spki(&row.get::<_, Vec<u8>>(2)?).map_err(|_| damaged("key"))?,
                key: rows::key_place(&row.get::<_, String>(3)?, row.get(4)?, row.get(5)?)?,
                created: UnixTime(row.get(6)?),
            });
        }
        Ok(all)
    }

    fn signed_by(&self, authority: &AuthorityName, now: UnixTime) -> Result<Signed, StoreError> {
        let good = rows::good("?2");
        let sql = format!(
            "SELECT count(*), count(*) FILTER (WHERE {good}), max(not_after) FILTER (WHERE {good}) FROM credentials
             WHERE authority = (SELECT pk FROM authorities WHERE name = ?1)"
        );
        let mut statement = self.sql().prepare_cached(&sql)?;
        Ok(statement.query_row(params![authority.as_str(), now.0], |row| {
            let count = |at| row.get::<_, i64>(at).map(i64::unsigned_abs);
            Ok(Signed { all: count(0)?, usable: count(1)?, last_end: rows::time(row.get(2)?) })
        })?)
    }

    fn revoked_by(&self, authority: &AuthorityName) -> Result<Vec<(Revoked, UnixTime)>, StoreError> {
        let mut statement = self.sql().prepare_cached(
            "SELECT serial, revoked, reason, not_after FROM credentials
             WHERE authority = (SELECT pk FROM authorities WHERE name = ?1) AND revoked IS NOT NULL
             UNION ALL
             SELECT serial, held, ?2, not_after FROM devices JOIN credentials ON credentials.device = devices.pk
             WHERE authority = (SELECT pk FROM authorities WHERE name = ?1) AND revoked IS NULL AND held IS NOT NULL
             UNION ALL
             SELECT serial, revoked, ?3, not_after FROM lost_serials
             WHERE authority = (SELECT pk FROM authorities WHERE name = ?1)
             ORDER BY serial",
        )?;
        let (held, lost) = (Reason::CertificateHold.code(), Reason::CessationOfOperation.code());
        let mut found = statement.query(params![authority.as_str(), held, lost])?;
        let mut all = Vec::new();
        while let Some(row) = found.next()? {
            let serial = rows::serial(&row.get::<_, Vec<u8>>(0)?)?;
            let reason = Reason::from_code(row.get(2)?).ok_or_else(|| damaged("revocation"))?;
            all.push((Revoked { serial, at: UnixTime(row.get(1)?), reason }, UnixTime(row.get(3)?)));
        }
        Ok(all)
    }

    fn crl_lacks(&self, authority: &AuthorityName) -> Result<i64, StoreError> {
        let mut statement = self.sql().prepare_cached("SELECT crl_pending FROM authorities WHERE name = ?1")?;
        let found = statement.query_row([authority.as_str()], |row| row.get(0)).optional()?;
        found.ok_or_else(|| StoreError::Unknown { what: "authority", name: authority.to_string() })
    }
}

/// The row of an authority.
pub(super) fn authority_key(connection: &Connection, name: &AuthorityName) -> Result<i64, StoreError> {
    let mut statement = connection.prepare_cached("SELECT pk FROM authorities WHERE name = ?1")?;
    let found = statement.query_row([name.as_str()], |row| row.get(0)).optional()?;
    found.ok_or_else(|| StoreError::Unknown { what: "authority", name: name.to_string() })
}

impl WriteAuthorities for SqliteTx<'_> {
    fn insert_authority(&mut self, authority: &AuthorityRecord) -> Result<(), StoreError> {
        let (place, token, label) = rows::key_words(&authority.key);
        let kinds = authority.trust.as_ref().map(rows::kinds_text);
        self.sql().execute(
            "INSERT INTO authorities (name, role, certificate, created, key_place, token, token_label, replaces,
                 trust_kinds, trust_fact, credentials_before)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, (SELECT coalesce(max(pk), 0) FROM credentials))",
            params![
                authority.name.as_str(),
                authority.role.as_str(),
                authority.certificate.der(),
                authority.created.0,
                place,
                token,
                label,
                authority.replaces.as_ref().map(|name| name.as_str()),
                kinds,
                authority.trust.as_ref().map(rows::trusted_facts),
            ],
        )?;
        Ok(())
    }

    fn put_cross(&mut self, authority: &AuthorityName, certificate: &Certificate) -> Result<(), StoreError> {
        let key = authority_key(self.sql(), authority)?;
        let sql = "INSERT INTO crosses (authority, fingerprint, certificate) VALUES (?1, ?2, ?3)";
        self.sql().execute(sql, params![key, certificate.fingerprint.0, certificate.der()])?;
        Ok(())
    }

    fn put_pending(&mut self, pending: &PendingAuthority) -> Result<(), StoreError> {
        let (place, token, label) = rows::key_words(&pending.key);
        self.sql().execute(
            "INSERT INTO pending_authorities (name, role, public_key, key_place, token, token_label, created)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)
             ON CONFLICT (name) DO UPDATE SET created = excluded.created",
            params![
                pending.name.as_str(),
                pending.role.as_str(),
                pending.public_key.spki(),
                place,
                token,
                label,
                pending.created.0
            ],
        )?;
        Ok(())
    }

    fn drop_pending(&mut self, name: &AuthorityName) -> Result<(), StoreError> {
        self.sql().execute("DELETE FROM pending_authorities WHERE name = ?1", [name.as_str()])?;
        Ok(())
    }

    fn put_retired(&mut self, name: &AuthorityName, at: UnixTime) -> Result<(), StoreError> {
        let sql = "UPDATE authorities SET retired = ?2 WHERE name = ?1";
        rows::found(self.sql().execute(sql, params![name.as_str(), at.0])?, "authority", name)
    }

    fn put_crl(&mut self, name: &AuthorityName, crl: &NewestCrl) -> Result<(), StoreError> {
        let number = i64::try_from(crl.number).map_err(|_| damaged("CRL number"))?;
        let sql =
            "UPDATE authorities SET crl_number = ?2, crl_at = ?3, crl_pending = ?4, crl_until = ?5 WHERE name = ?1";
        let row = params![name.as_str(), number, crl.at.0, crl.lacks, crl.until.map(|until| until.0)];
        rows::found(self.sql().execute(sql, row)?, "authority", name)
    }

    fn put_crl_lacks(&mut self, name: &AuthorityName, change: i64) -> Result<(), StoreError> {
        let sql = "UPDATE authorities SET crl_pending = ?2 WHERE name = ?1";
        let updated = self.sql().prepare_cached(sql)?.execute(params![name.as_str(), change])?;
        rows::found(updated, "authority", name)
    }

    fn put_authorities_changed(&mut self, change: i64) -> Result<(), StoreError> {
        record::put_authorities_changed(self.sql(), change)
    }
}
