//! A publish that is allowed must not wait for memory. Alone in its program, as it counts what the whole program takes.

use tidy_warden_core::condition::Groups;
use tidy_warden_core::device::DeviceRecord;
use tidy_warden_core::policy::{Delivery, Edition, NoMeter, PolicyFile, Publish};
use tidy_warden_core::settings::Settings;
use tidy_warden_core::text::Source;
use tidy_warden_core::time::UnixTime;
use tidy_warden_core::topic::TopicName;

#[global_allocator]
static ALLOCATOR: dhat::Alloc = dhat::Alloc;

const POLICIES: &str = r#"
policy vane {
  for kind = windvane
  allow publish   "rope/{site}/{device}/wind" qos <= 0
  allow publish   "rope/{site}/{device}/#" size <= 2KiB
  allow subscribe "rope/{site}/+/storm" because "all must hear it"
  deny  publish   "rope/+/+/brake"
}
policy station {
  for kind = station
  allow publish "rope/{site}/{child}/wind" for children
}
"#;

#[test]
fn a_decision_on_the_hit_path_takes_no_memory() {
    let device = |id: &str, kind: &str| {
        let mut device = DeviceRecord::new(id.parse().unwrap(), kind.parse().unwrap(), UnixTime(0));
        device.labels.insert("site".parse().unwrap(), "ossel".parse().unwrap());
        device
    };
    let (mut vane, station) = (device("wv-1", "windvane"), device("st-1", "station"));
    vane.gateway = Some(station.id.clone());
    let settings = "[ward]\nname = \"n\"\n[kinds.station]\ncarries = [\"windvane\"]\n";
    let settings = Settings::parse(&Source::new("ward.toml", settings)).unwrap();
    let file = PolicyFile { name: "p".into(), text: POLICIES.into() };
    let edition = Edition::read(1, &[file], &Groups::new()).unwrap();
    let (own, gateway) = (edition.rights(&vane), edition.rights_with(&station, [&vane], &settings));
    let topic = TopicName::parse("rope/ossel/wv-1/wind").unwrap();
    let storm = TopicName::parse("rope/ossel/wv-9/storm").unwrap();

    let profiler = dhat::Profiler::builder().testing().build();
    let before = dhat::HeapStats::get();
    let mut allowed = 0;
    for qos in [0, 1] {
        // At QoS 1 the first rule is beyond its limit, and the next is tried.
        let act = Publish { topic, qos, retain: false, size: 100 };
        allowed += usize::from(own.publish(act, &mut NoMeter).is_ok());
        allowed += usize::from(gateway.publish(act, &mut NoMeter).is_ok());
        allowed += usize::from(own.deliver(storm) == Delivery::Deliver);
    }
    let after = dhat::HeapStats::get();
    drop(profiler);
    assert_eq!(allowed, 6);
    assert_eq!(after.total_blocks - before.total_blocks, 0);
}
