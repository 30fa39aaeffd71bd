//! Authorities and what their CRLs list.

use tidy_warden_core::authority::{AuthorityRecord, PendingAuthority};
use tidy_warden_core::certificate::Certificate;
use tidy_warden_core::id::AuthorityName;
use tidy_warden_core::key::PublicKey;
use tidy_warden_core::revocation::{Reason, Revoked};
use tidy_warden_core::time::UnixTime;
use tokio_postgres::Row;

use super::Database;
use super::connection::get;
use super::rows::{self, damaged};
use crate::{NewestCrl, ReadAuthorities, Signed, StoreError, WriteAuthorities};

fn authority(row: &Row) -> Result<AuthorityRecord, StoreError> {
    let crossed: Vec<&[u8]> = get(row, 14)?;
    Ok(AuthorityRecord {
        name: rows::word(row, 0, "authority")?,
        role: rows::role(get(row, 1)?)?,
        certificate: rows::certificate(get(row, 2)?)?,
        crossed: crossed.into_iter().map(rows::certificate).collect::<Result<_, _>>()?,
        created: UnixTime(get(row, 6)?),
        key: rows::key_place(get(row, 7)?, get(row, 8)?, get(row, 9)?)?,
        replaces: rows::maybe_word(row, 10, "authority")?,
        retired: rows::time(get(row, 11)?),
        trust: rows::trust(get(row, 12)?, get(row, 13)?)?,
        crl_number: rows::count(get(row, 3)?)?,
        crl_at: rows::time(get(row, 4)?),
        crl_until: rows::time(get(row, 15)?),
        crl_pending: get::<i64>(row, 5)? != 0,
    })
}

fn pending(row: &Row) -> Result<PendingAuthority, StoreError> {
    Ok(PendingAuthority {
        name: rows::word(row, 0, "authority")?,
        role: rows::role(get(row, 1)?)?,
        public_key: PublicKey::from_spki(get(row, 2)?).map_err(|_| damaged("key"))?,
        key: rows::key_place(get(row, 3)?, get(row, 4)?, get(row, 5)?)?,
        created: UnixTime(get(row, 6)?),
    })
}

impl ReadAuthorities for Database {
    fn authorities(&self) -> Result<Vec<AuthorityRecord>, StoreError> {
        let sql = "SELECT name, role, certificate, crl_number, crl_at, crl_pending, created, key_place, token, token_label,
                replaces, retired, trust_kinds, trust_fact,
                ARRAY(SELECT crosses.certificate FROM crosses WHERE crosses.authority = authorities.pk ORDER BY fingerprint), crl_until
            FROM authorities ORDER BY pk";
        self.connection.rows(sql, &[])?.iter().map(authority).collect()
    }

    fn pending_authorities(&self) -> Result<Vec<PendingAuthority>, StoreError> {
        let sql = "SELECT name, role, public_key, key_place, token, token_label, created FROM pending_authorities
             ORDER BY name";
        self.connection.rows(sql, &[])?.iter().map(pending).collect()
    }

    fn signed_by(&self, authority: &AuthorityName, now: UnixTime) -> Result<Signed, StoreError> {
        let good = rows::good("$2");
        let sql = format!(
            "SELECT count(*), count(*) FILTER (WHERE {good}), max(not_after) FILTER (WHERE {good}) FROM credentials
             WHERE authority = (SELECT pk FROM authorities WHERE name = $1)"
        );
        let row = self.connection.one(&sql, &[&authority.as_str(), &now.0])?;
        Ok(Signed {
            all: rows::count(get(&row, 0)?)?,
            usable: rows::count(get(&row, 1)?)?,
            last_end: rows::time(get(&row, 2)?),
        })
    }

    fn revoked_by(&self, authority: &AuthorityName) -> Result<Vec<(Revoked, UnixTime)>, StoreError> {
        let sql = "WITH signer AS (SELECT pk FROM authorities WHERE name = $1)
             SELECT serial, revoked, reason, not_after FROM credentials
             WHERE authority = (SELECT pk FROM signer) AND revoked IS NOT NULL
             UNION ALL
             SELECT serial, held, $2, not_after FROM devices JOIN credentials ON credentials.device = devices.pk
             WHERE authority = (SELECT pk FROM signer) AND revoked IS NULL AND held IS NOT NULL
             UNION ALL
             SELECT serial, revoked, $3, not_after FROM lost_serials WHERE authority = (SELECT pk FROM signer)
             ORDER BY serial";
        let (held, lost) = (Reason::CertificateHold.code(), Reason::CessationOfOperation.code());
        let found = self.connection.rows(sql, &[&authority.as_str(), &i64::from(held), &i64::from(lost)])?;
        let revoked = |row: &Row| {
            let reason = Reason::from_code(rows::small(row, 2, "revocation")?).ok_or_else(|| damaged("revocation"))?;
            let serial = rows::serial(get(row, 0)?)?;
            Ok((Revoked { serial, at: UnixTime(get(row, 1)?), reason }, UnixTime(get(row, 3)?)))
        };
        found.iter().map(revoked).collect()
    }

    fn crl_lacks(&self, authority: &AuthorityName) -> Result<i64, StoreError> {
        match self.connection.maybe("SELECT crl_pending FROM authorities WHERE name = $1", &[&authority.as_str()])? {
            Some(row) => get(&row, 0),
            None => Err(StoreError::Unknown { what: "authority", name: authority.to_string() }),
        }
    }
}

impl WriteAuthorities for Database {
    fn insert_authority(&mut self, authority: &AuthorityRecord) -> Result<(), StoreError> {
        let (place, token, label) = rows::key_words(&authority.key);
        let pk = self.next_rows("authorities", 1)?;
        self.connection.write(
            "INSERT INTO authorities (pk, name, role, certificate, created, key_place, token, token_label, replaces,
                 trust_kinds, trust_fact, credentials_before)
             VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, (SELECT coalesce(max(pk), 0) FROM credentials))",
            &[
                &pk,
                &authority.name.as_str(),
                &authority.role.as_str(),
                &authority.certificate.der(),
                &authority.created.0,
                &place,
                &token,
                &label,
                &authority.replaces.as_ref().map(|name| name.as_str()),
                &authority.trust.as_ref().map(rows::kinds_text),
                &authority.trust.as_ref().map(rows::trusted_facts),
            ],
        )
    }

    fn put_cross(&mut self, authority: &AuthorityName, certificate: &Certificate) -> Result<(), StoreError> {
        let key = self.authority_key(authority)?;
        let sql = "INSERT INTO crosses (authority, fingerprint, certificate) VALUES ($1, $2, $3)";
        self.connection.write(sql, &[&key, &certificate.fingerprint.0.as_slice(), &certificate.der()])
    }

    fn put_pending(&mut self, pending: &PendingAuthority) -> Result<(), StoreError> {
        let (place, token, label) = rows::key_words(&pending.key);
        self.connection.write(
            "INSERT INTO pending_authorities (name, role, public_key, key_place, token, token_label, created)
             VALUES ($1, $2, $3, $4, $5, $6, $7)
             ON CONFLICT (name) DO UPDATE SET created = excluded.created",
            &[
                &pending.name.as_str(),
                &pending.role.as_str(),
                &pending.public_key.spki(),
                &place,
                &token,
                &label,
                &pending.created.0,
            ],
        )
    }

    fn drop_pending(&mut self, name: &AuthorityName) -> Result<(), StoreError> {
        self.connection.write("DELETE FROM pending_authorities WHERE name = $1", &[&name.as_str()])
    }

    fn put_retired(&mut self, name: &AuthorityName, at: UnixTime) -> Result<(), StoreError> {
        let sql = "UPDATE authorities SET retired = $2 WHERE name = $1";
        rows::found(self.connection.run(sql, &[&name.as_str(), &at.0])?, "authority", name)
    }

    fn put_crl(&mut self, name: &AuthorityName, crl: &NewestCrl) -> Result<(), StoreError> {
        let number = i64::try_from(crl.number).map_err(|_| damaged("CRL number"))?;
        let sql =
            "UPDATE authorities SET crl_number = $2, crl_at = $3, crl_pending = $4, crl_until = $5 WHERE name = $1";
        let until = crl.until.map(|until| until.0);
        let updated = self.connection.run(sql, &[&name.as_str(), &number, &crl.at.0, &crl.lacks, &until])?;
        rows::found(updated, "authority", name)
    }

    fn put_crl_lacks(&mut self, name: &AuthorityName, change: i64) -> Result<(), StoreError> {
        let sql = "UPDATE authorities SET crl_pending = $2 WHERE name = $1";
        rows::found(self.connection.run(sql, &[&name.as_str(), &change])?, "authority", name)
    }

    fn put_authorities_changed(&mut self, change: i64) -> Result<(), StoreError> {
        self.connection.write("UPDATE head SET authorities = $1", &[&change])
    }
}
