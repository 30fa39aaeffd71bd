//! The ward and its record.

use tidy_warden_core::audit::{Entry, GENESIS, Hash, Tree};
use tidy_warden_core::certificate::{Certificate, Fingerprint};
use tidy_warden_core::key::PublicKey;
use tidy_warden_core::time::UnixTime;
use tokio_postgres::types::ToSql;

use super::Database;
use super::connection::get;
use super::rows::{self, damaged};
use crate::{Head, Move, ReadRecord, StoreError, WardRecord, WriteRecord};

/// A hash of another length was tampered with; it is no hash of anything.
fn hash(octets: &[u8]) -> Hash {
    octets.try_into().unwrap_or([0xff; 32])
}

impl Database {
    /// Where the record ends in a change, which nobody else can move: its lock told. `None` outside of one, and where there is no record
    /// yet.
    fn locked_end(&self) -> Result<Option<(i64, Hash, Tree)>, StoreError> {
        if let Some(row) = self.connection.locked()? {
            let tree = Tree::from_octets(get(&row, 3)?).ok_or_else(|| damaged("tree of the audit record"))?;
            self.known.end.replace(Some((get(&row, 1)?, hash(get(&row, 2)?), tree)));
        }
        Ok(self.known.end.borrow().clone())
    }
}

/// Where the record ends, for [`read_head`].
pub(super) const HEAD: &str = "SELECT change, hash, group_rules, authorities, given_up_number, given_up_hash,
                (SELECT coalesce(max(number), 0) FROM editions),
                (SELECT coalesce(max(number), 0) FROM trials WHERE ended IS NULL), moved, doubt,
                (SELECT least FROM store_format),
                (SELECT coalesce(max(number), 0) FROM adopted_settings), coalesce(servers, 0), coalesce(tokens, 0) FROM head";

/// What [`HEAD`] gives.
pub(super) fn read_head(found: &[tokio_postgres::Row]) -> Result<Head, StoreError> {
    let row = found.first().ok_or_else(|| damaged("end of the record"))?;
    super::schema::known(get(row, 10)?)?;
    let given_up = get::<Option<i64>>(row, 4)?.zip(get::<Option<&[u8]>>(row, 5)?);
    Ok(Head {
        number: get(row, 0)?,
        hash: hash(get(row, 1)?),
        edition: rows::small(row, 6, "edition")?,
        group_rules: get(row, 2)?,
        trial: rows::small(row, 7, "trial")?,
        authorities: get(row, 3)?,
        servers: get(row, 12)?,
        tokens: get(row, 13)?,
        settings: rows::small(row, 11, "number of settings")?,
        given_up: given_up.map(|(number, octets)| (number, hash(octets))),
        moved: get::<Option<&str>>(row, 8)?.map(Move::from_text),
        doubt: get(row, 9)?,
    })
}

impl ReadRecord for Database {
    fn ward(&self) -> Result<WardRecord, StoreError> {
        let row = self.connection.maybe("SELECT urn, rehearsal, token_key FROM ward", &[])?;
        let row = row.ok_or_else(|| damaged("ward record"))?;
        Ok(WardRecord {
            urn: get(&row, 0)?,
            rehearsal: get(&row, 1)?,
            token_key: PublicKey::from_spki(get(&row, 2)?).map_err(|_| damaged("ward record"))?,
        })
    }

    fn settings_text(&self) -> Result<String, StoreError> {
        let row = self.connection.maybe("SELECT settings FROM ward", &[])?;
        get(&row.ok_or_else(|| damaged("copy of the settings"))?, 0)
    }

    fn server_certificate(&self, name: &str) -> Result<Certificate, StoreError> {
        match self.connection.maybe("SELECT certificate FROM servers WHERE name = $1", &[&name])? {
            Some(row) => rows::certificate(get(&row, 0)?),
            None => Err(StoreError::Unknown { what: "server certificate", name: name.to_owned() }),
        }
    }

    fn former_servers(&self) -> Result<Vec<(String, Certificate)>, StoreError> {
        let found =
            self.connection.rows("SELECT name, certificate FROM former_servers ORDER BY name, fingerprint", &[])?;
        found.iter().map(|row| Ok((get(row, 0)?, rows::certificate(get(row, 1)?)?))).collect()
    }

    fn head(&self) -> Result<Head, StoreError> {
        read_head(&self.connection.rows(HEAD, &[])?)
    }

    fn audit_end(&self) -> Result<(i64, Hash), StoreError> {
        if let Some((number, hash, _)) = self.locked_end()? {
            return Ok((number, hash));
        }
        match self.connection.maybe("SELECT change, hash FROM head", &[])? {
            Some(row) => Ok((get(&row, 0)?, hash(get(&row, 1)?))),
            None => Ok((0, GENESIS)),
        }
    }

    fn tree(&self) -> Result<Tree, StoreError> {
        if let Some((_, _, tree)) = self.locked_end()? {
            return Ok(tree);
        }
        match self.connection.maybe("SELECT tree FROM head", &[])? {
            Some(row) => Tree::from_octets(get(&row, 0)?).ok_or_else(|| damaged("tree of the audit record")),
            None => Ok(Tree::default()),
        }
    }

    fn entry_hash(&self, number: i64) -> Result<Option<Hash>, StoreError> {
        let row = self.connection.maybe("SELECT hash FROM audit WHERE number = $1", &[&number])?;
        row.map(|row| Ok(get::<&[u8]>(&row, 0)?.try_into().ok())).transpose().map(Option::flatten)
    }

    fn entries(&self, from: i64, limit: usize) -> Result<Vec<Entry>, StoreError> {
        self.entries_by("WHERE number >= $1 ORDER BY number LIMIT $2", &[&from, &rows::limit(limit)])
    }

    fn entries_about(&self, subject: &str, before: i64, limit: usize) -> Result<Vec<Entry>, StoreError> {
        let rest = "WHERE subject = $1 AND number < $2 ORDER BY number DESC LIMIT $3";
        self.entries_by(rest, &[&subject, &before, &rows::limit(limit)])
    }
}

impl Database {
    fn entries_by(&self, rest: &str, values: &[&(dyn ToSql + Sync)]) -> Result<Vec<Entry>, StoreError> {
        let sql = format!("SELECT number, at, actor, act, subject, because, detail, previous, hash FROM audit {rest}");
        let entry = |row: &tokio_postgres::Row| {
            Ok(Entry {
                number: get(row, 0)?,
                at: UnixTime(get(row, 1)?),
                actor: get(row, 2)?,
                act: get(row, 3)?,
                subject: get(row, 4)?,
                because: get(row, 5)?,
                detail: get(row, 6)?,
                previous: hash(get(row, 7)?),
                hash: hash(get(row, 8)?),
            })
        };
        self.connection.rows(&sql, values)?.iter().map(entry).collect()
    }
}

impl WriteRecord for Database {
    fn put_entry(&mut self, entry: &Entry) -> Result<(), StoreError> {
        let mut tree = self.tree()?;
        tree.add(&entry.hash);
        self.connection.write(
            "WITH entry AS (INSERT INTO audit (number, at, actor, act, subject, because, detail, previous, hash)
                 VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9))
             INSERT INTO head (change, hash, tree) VALUES ($1, $9, $10)
             ON CONFLICT (one) DO UPDATE SET change = excluded.change, hash = excluded.hash, tree = excluded.tree",
            &[
                &entry.number,
                &entry.at.0,
                &entry.actor,
                &entry.act,
                &entry.subject,
                &entry.because,
                &entry.detail,
                &entry.previous.as_slice(),
                &entry.hash.as_slice(),
                &tree.to_octets(),
            ],
        )?;
        self.known.has_new_entries = true;
        self.known.end.replace(Some((entry.number, entry.hash, tree)));
        Ok(())
    }

    fn put_ward(&mut self, ward: &WardRecord) -> Result<(), StoreError> {
        let sql = "INSERT INTO ward (urn, rehearsal, token_key) VALUES ($1, $2, $3)";
        self.connection.write(sql, &[&ward.urn, &ward.rehearsal, &ward.token_key.spki()])
    }

    fn put_settings(&mut self, text: &str) -> Result<(), StoreError> {
        rows::found(self.connection.run("UPDATE ward SET settings = $1", &[&text])?, "ward", &"record")
    }

    fn put_server(&mut self, name: &str, certificate: &Certificate) -> Result<(), StoreError> {
        let sql = "INSERT INTO servers (name, certificate) VALUES ($1, $2)
             ON CONFLICT (name) DO UPDATE SET certificate = excluded.certificate";
        self.connection.write(sql, &[&name, &certificate.der()])
    }

    fn put_former_server(&mut self, name: &str, certificate: &Certificate) -> Result<(), StoreError> {
        let sql = "INSERT INTO former_servers (fingerprint, name, certificate) VALUES ($1, $2, $3)
             ON CONFLICT (fingerprint) DO UPDATE SET name = excluded.name";
        self.connection.write(sql, &[&certificate.fingerprint.0.as_slice(), &name, &certificate.der()])
    }

    fn drop_former_server(&mut self, fingerprint: &Fingerprint) -> Result<(), StoreError> {
        self.connection.write("DELETE FROM former_servers WHERE fingerprint = $1", &[&fingerprint.0.as_slice()])
    }

    fn put_servers_changed(&mut self, change: i64) -> Result<(), StoreError> {
        self.connection.write("UPDATE head SET servers = $1", &[&change])
    }

    fn put_doubt(&mut self, doubt: Option<&str>) -> Result<(), StoreError> {
        self.connection.write("UPDATE head SET doubt = $1", &[&doubt])
    }

    fn put_given_up(&mut self, number: i64, hash: &Hash) -> Result<(), StoreError> {
        let sql = "UPDATE head SET given_up_number = $1, given_up_hash = $2";
        self.connection.write(sql, &[&number, &hash.as_slice()])
    }
}
