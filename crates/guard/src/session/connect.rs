//! Waiting for CONNECT.

use tidy_warden_core::mqtt::{Connect, Frame, PacketType, Version, connack, reason, return_code, split};
use tidy_warden_serve::listener::Connection;
use tidy_warden_serve::openings::OPENING;
use tokio::io::{AsyncRead, AsyncWrite};

use super::{AwaitsConnect, AwaitsStore, Caller, Conversing, MAX_CONNECT, refused, see_off, watch_for_clones};
use crate::Event;

impl<S: AsyncRead + AsyncWrite + Unpin + Send> AwaitsConnect<S> {
    /// From CONNECT to CONNACK; `None` if no session came about, which was told.
    pub(super) async fn open(self) -> Option<Conversing<S>> {
        let Self { shared, mut client, from } = self;
        let Connection { peer, leaf, resumed, came, opening } = from;
        let first = tokio::select! {
            first = tokio::time::timeout_at(came + OPENING, client.packet(MAX_CONNECT)) => match first {
                Ok(first) => first.map_err(|interrupted| format!("no CONNECT came: {interrupted}")),
                Err(_) => Err("no CONNECT came in time".to_owned()),
            },
            () = opening.lost() => Err("it made room for newer connections, being too slow".to_owned()),
        };
        drop(opening);
        let len = match first {
            Ok(len) => len,
            Err(why) => {
                refused(&shared, (None, peer), "", why);
                return None;
            }
        };
        let packet: Vec<u8> = client.input.drain(..len).collect();
        let frame = split(&packet, MAX_CONNECT).ok().flatten()?;
        let connect = match parse(&frame) {
            Ok(connect) => connect,
            Err((answer, why)) => {
                client.queue(&answer);
                refused(&shared, (None, peer), "", why);
                see_off(&shared, client).await;
                return None;
            }
        };
        let live = shared.live();
        let caller = Caller { shared: &shared, live: live.clone(), client, connect: &connect, peer };
        let mut session = AwaitsStore { caller, leaf }.admit().await?.reach().await?;
        shared.metrics.opened(came.elapsed());
        let device = &session.admission.device;
        shared.emit(Event::Connected {
            device: device.id.to_string(),
            peer,
            client_id: session.admission.client_id.clone(),
            credential: session.admission.shown.clone(),
            resumed,
        });
        shared.note_use(&device.id, &session.admission.credential);
        watch_for_clones(&shared, &live, (device, &session.admission.credential), peer);
        session.present = Some(shared.meeting.enter(&session.admission.client_id, device, peer));
        Some(session)
    }
}

/// Reads the CONNECT; on failure gives the answer, which may be empty, and the reason.
fn parse<'a>(frame: &Frame<'a>) -> Result<Connect<'a>, (Vec<u8>, String)> {
    if frame.packet_type != PacketType::Connect {
        // MQTT 5.0 section 3.1: closed without a word.
        return Err((Vec::new(), "the first packet was not CONNECT".to_owned()));
    }
    Connect::parse(frame).map_err(|malformed| {
        let answer = if malformed.code == reason::UNSUPPORTED_VERSION {
            connack(Version::V311, return_code::BAD_VERSION, None)
        } else {
            Vec::new()
        };
        (answer, malformed.to_string())
    })
}
