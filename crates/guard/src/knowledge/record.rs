//! What the guard writes to the store, and what it kept there of sessions at the broker.

use tidy_warden_core::certificate::{Certificate, Fingerprint};
use tidy_warden_core::claim::OpenClaim;
use tidy_warden_core::errand::{Brought, ErrandRecord, State};
use tidy_warden_core::id::{DeviceId, KindName, PostName};
use tidy_warden_core::introduced::{IntroducedRecord, IntroducedState};
use tidy_warden_core::reflex::Evidence;
use tidy_warden_core::time::UnixTime;
use tidy_warden_store::acts::errand::signer_chains;
use tidy_warden_store::{
    BrokerSession, Cause, DeviceEvent, ErrandTally, GuardStore, IntroduceRefusal, Met, Opened, PostState, StoreError,
    Tally, Traffic, TrialDifference, Turn,
};

use super::Knowledge;

/// What a person does over the guard, for the audit record.
pub(crate) struct WatchNote {
    pub(crate) act: &'static str,
    pub(crate) subject: String,
    pub(crate) detail: String,
    pub(crate) actor: String,
    pub(crate) because: String,
}

impl Knowledge {
    /// What is open for each of these receivers.
    pub(crate) async fn open_errands(
        &self,
        receivers: Vec<DeviceId>,
        now: UnixTime,
        limit: usize,
    ) -> Result<Vec<Vec<ErrandRecord>>, StoreError> {
        let all = move |store: &GuardStore| {
            receivers.iter().map(|receiver| store.open_errands(receiver, now, limit)).collect()
        };
        self.read(all).await
    }

    /// See [`tidy_warden_store::ReadErrands::errands_after`].
    pub(crate) async fn errands_after(
        &self,
        number: i64,
        limit: usize,
    ) -> Result<Vec<(ErrandRecord, Option<DeviceId>)>, StoreError> {
        self.read(move |store| store.errands_after(number, limit)).await
    }

    pub(crate) async fn last_errand(&self) -> Result<i64, StoreError> {
        self.read(|store| store.last_errand()).await
    }

    /// Whether each of these is still open.
    pub(crate) async fn open_of(&self, numbers: Vec<i64>) -> Result<Vec<(i64, bool)>, StoreError> {
        let is_open = move |store: &GuardStore| {
            let open =
                |number: i64| Ok((number, store.errand(number)?.is_some_and(|record| record.state == State::Open)));
            numbers.into_iter().map(open).collect()
        };
        self.read(is_open).await
    }

    /// The ward's URN, and the certificates of what signs errands or did.
    pub(crate) async fn errand_signers(&self) -> Result<(String, Vec<Vec<Certificate>>), StoreError> {
        self.read(|store| store.view(|view| Ok((view.ward()?.urn, signer_chains(view)?)))).await
    }

    /// Notes what was handed over and answered.
    pub(crate) async fn note_errands(
        &self,
        handed: Vec<(i64, UnixTime)>,
        answers: Vec<(i64, Brought)>,
    ) -> Result<(), StoreError> {
        let note = move |store: &mut GuardStore, _: &Cause| {
            store.tally(&Tally::Errands(ErrandTally { handed: &handed, answers: &answers }))
        };
        self.write(note, String::new()).await
    }

    /// Notes that devices opened themselves to be claimed.
    pub(crate) async fn note_windows(&self, windows: Vec<OpenClaim>) -> Result<(), StoreError> {
        let note = move |store: &mut GuardStore, _: &Cause| store.tally(&Tally::Windows(&windows));
        self.write(note, String::new()).await
    }

    /// Records how the policies on trial differ from those that count.
    pub(crate) async fn record_differences(
        &self,
        trial: u32,
        differences: Vec<TrialDifference>,
    ) -> Result<(), StoreError> {
        let record = move |store: &mut GuardStore, _: &Cause| {
            store.tally(&Tally::Differences { trial, differences: &differences })
        };
        self.write(record, String::new()).await
    }

    /// What the store knows of the session that the broker keeps under a client identifier.
    pub(crate) async fn broker_session(&self, client_id: String) -> Result<Option<BrokerSession>, StoreError> {
        self.read(move |store| store.broker_session(&client_id)).await
    }

    /// How many sessions the broker keeps for a device.
    pub(crate) async fn broker_sessions_of(&self, device: DeviceId) -> Result<usize, StoreError> {
        self.read(move |store| store.broker_sessions_of(&device)).await
    }

    /// Some sessions that the broker keeps for devices that are out for good.
    pub(crate) async fn broker_sessions_of_ended(&self, limit: usize) -> Result<Vec<BrokerSession>, StoreError> {
        self.follower.ask(move |store| store.broker_sessions_of_ended(limit)).await
    }

    /// Keeps what is known of sessions at the broker.
    pub(crate) async fn keep_broker_sessions(
        &self,
        kept: Vec<BrokerSession>,
        gone: Vec<String>,
    ) -> Result<(), StoreError> {
        let record = move |store: &mut GuardStore, cause: &Cause| {
            store.tally(&Tally::Sessions { kept: &kept, gone: &gone, now: cause.at })
        };
        self.write(record, String::new()).await
    }

    /// Records what opened sessions.
    pub(crate) async fn record_uses(&self, uses: Vec<(DeviceId, Option<Fingerprint>)>) -> Result<(), StoreError> {
        self.write(move |store, cause| store.record_uses(&uses, cause), String::new()).await
    }

    /// Tells other guards of this one's sessions, and it of theirs.
    pub(crate) async fn meet(
        &self,
        post: PostName,
        is_first: bool,
        opened: Vec<Opened>,
        closed: Vec<String>,
    ) -> Result<Vec<Met>, StoreError> {
        let meet = move |store: &mut GuardStore, cause: &Cause| {
            store.meet(&Turn { post: &post, is_first, opened: &opened, closed: &closed, at: cause.at })
        };
        self.write(meet, String::new()).await
    }

    /// Brings in a child of a gateway, with the labels that the gateway has at that moment.
    pub(crate) async fn introduce_child(
        &self,
        gateway: DeviceId,
        child: DeviceId,
        kind: KindName,
        most: u32,
        state: IntroducedState,
    ) -> Result<Result<IntroducedState, IntroduceRefusal>, StoreError> {
        let bring_in = move |store: &mut GuardStore, cause: &Cause| {
            let found = store.devices(std::slice::from_ref(&gateway))?.pop().flatten();
            let unknown = || StoreError::Unknown { what: "device", name: gateway.to_string() };
            let gateway = found.ok_or_else(unknown)?.device;
            let new = IntroducedRecord { state, ..IntroducedRecord::new(child, kind, &gateway, cause.at) };
            store.introduce_child(&new, most, cause)
        };
        self.write(bring_in, String::new()).await
    }

    /// Says how this guard is.
    pub(crate) async fn record_state(&self, state: PostState) -> Result<(), StoreError> {
        self.write(move |store, _| store.tally(&Tally::Post(&state)), String::new()).await
    }

    /// Adds to what was counted of devices.
    pub(crate) async fn add_traffic(&self, counted: Vec<(DeviceId, Traffic)>) -> Result<(), StoreError> {
        let record = move |store: &mut GuardStore, cause: &Cause| {
            store.tally(&Tally::Traffic { counted: &counted, at: cause.at })
        };
        self.write(record, String::new()).await
    }

    /// Keeps what reflexes act on.
    pub(crate) async fn add_evidence(&self, all: Vec<Evidence>) -> Result<(), StoreError> {
        self.write(move |store, _| store.tally(&Tally::Evidence(&all)), String::new()).await
    }

    /// Keeps what happened to devices.
    pub(crate) async fn add_events(&self, events: Vec<DeviceEvent>) -> Result<(), StoreError> {
        self.write(move |store, _| store.tally(&Tally::Events(&events)), String::new()).await
    }

    /// Records a sign of a clone, and puts the device on hold if that is to follow; says whether it did.
    pub(crate) async fn record_clone_sign(
        &self,
        device: DeviceId,
        sign: String,
        hold: bool,
    ) -> Result<bool, StoreError> {
        let because = if hold { format!("clone watch: {sign}") } else { String::new() };
        let record = move |store: &mut GuardStore, cause: &Cause| store.record_clone_sign(&device, &sign, hold, cause);
        self.write(record, because).await
    }

    /// Notes in the audit record that a person looks at messages.
    pub(crate) async fn record_watch(&self, note: WatchNote) -> Result<i64, StoreError> {
        let record = move |store: &mut GuardStore, cause: &Cause| {
            let cause = Cause { actor: note.actor, because: note.because, ..cause.clone() };
            store.record_note(note.act, &note.subject, &note.detail, &cause)
        };
        self.write(record, String::new()).await
    }
}
