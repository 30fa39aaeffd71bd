//! Guards, desks and posts get their next certificates here, ahead of the end of those that they have; each takes its own from the store.

use std::time::{Duration, Instant};

use tidy_warden_core::authority::AuthorityRole;
use tidy_warden_store::{OperatorStore, ServerRefusal, StoreError};
use tidy_warden_ward::server::{Unrenewed, due, is_due, renew};

use crate::Event;
use crate::state::{Desk, Live};

/// How often it is looked whether a certificate is due.
pub(crate) const LOOK: Duration = Duration::from_secs(5);

/// Within how long it is told once of a server that it could not be given the next certificate.
const TELL_AGAIN: Duration = Duration::from_secs(6 * 3600);

/// How often within a time one server is given another certificate because its own is not valid yet: two desks, of which one has a clock
/// that is ahead, would replace each other's without end.
const REPAIRS: u32 = 4;
const WITHIN: Duration = Duration::from_secs(6 * 3600);

/// Gives each server that needs it the next certificate.
pub(crate) fn keep(desk: &Desk, live: &Live, store: &mut OperatorStore) -> Result<(), StoreError> {
    // The newest, as everywhere.
    let service = live.signers.iter().rfind(|(authority, _)| authority.role == AuthorityRole::Service);
    let Some((service, signer)) = service else { return Ok(()) };
    let (authorities, now) = (store.authorities()?, desk.now());
    for server in store.servers()? {
        if !is_due(&server.certificate, &authorities, now) {
            continue;
        }
        let is_early = server.certificate.not_before > now;
        if is_early && desk.repairs.take(&server.name, REPAIRS, WITHIN, Instant::now()).is_err() {
            continue;
        }
        let because = format!("the certificate of before ends at {}", server.certificate.not_after);
        match renew(store, &live.settings, (service, &**signer), &server, false, &desk.cause(because)) {
            Ok(next) => desk.emit(Event::ServerRenewed {
                server: server.name,
                serial: next.serial.to_string(),
                ends: next.not_after.to_string(),
                next: due(&next).to_string(),
            }),
            // Another desk was quicker, or a person.
            Err(Unrenewed::Refused(ServerRefusal::Overtaken { .. })) => {}
            Err(Unrenewed::Store(error)) => return Err(error),
            Err(error) => {
                if desk.untold_servers.take(&server.name, 1, TELL_AGAIN, Instant::now()).is_ok() {
                    desk.trouble(format!("the next certificate of `{}` was not made: {error}", server.name));
                }
            }
        }
    }
    Ok(())
}
