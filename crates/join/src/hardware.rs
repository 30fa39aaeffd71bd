//! What a machine says of itself: its MAC addresses, and the serial number that its maker wrote into it.

use std::path::Path;

use tidy_warden_core::fact::{Fact, FactName};

/// Where the serial number stands, the first that says one: DMI (SMBIOS 3.7 section 7.2), then a device tree.
const SERIALS: [&str; 3] =
    ["sys/class/dmi/id/product_serial", "proc/device-tree/serial-number", "sys/firmware/devicetree/base/serial-number"];

/// What makers leave in the place of a serial number.
const NONE: [&str; 6] = ["", "0", "none", "default string", "to be filled by o.e.m.", "not specified"];

/// All facts that are found below `root`, which is `/`: a serial number, and the addresses of all network interfaces that are hardware.
#[must_use]
pub fn facts(root: &Path) -> Vec<Fact> {
    let mut all: Vec<Fact> = SERIALS.iter().find_map(|place| serial(&root.join(place))).into_iter().collect();
    let mut addresses: Vec<Fact> = Vec::new();
    let interfaces = std::fs::read_dir(root.join("sys/class/net")).into_iter().flatten().flatten();
    for interface in interfaces {
        // What is no hardware has no device behind it.
        if !interface.path().join("device").exists() {
            continue;
        }
        let Ok(text) = std::fs::read_to_string(interface.path().join("address")) else { continue };
        addresses.extend(Fact::new(FactName::Mac, text.trim()).ok().filter(|fact| fact.value() != "00:00:00:00:00:00"));
    }
    addresses.sort();
    all.extend(addresses);
    all
}

fn serial(place: &Path) -> Option<Fact> {
    let text = std::fs::read_to_string(place).ok()?;
    // A device tree ends its texts with a zero.
    let text = text.trim_end_matches('\0').trim();
    if NONE.contains(&text.to_ascii_lowercase().as_str()) {
        return None;
    }
    Fact::new(FactName::Serial, text).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_the_hardware_says_is_read_and_what_it_does_not_say_is_left_out() {
        let dir = std::env::temp_dir().join(format!("tidy-warden-hardware-{}", std::process::id()));
        let put = |place: &str, text: &str| {
            let path = dir.join(place);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, text).unwrap();
        };
        assert_eq!(facts(&dir), []);
        put("sys/class/dmi/id/product_serial", "To Be Filled By O.E.M.\n");
        put("proc/device-tree/serial-number", "100000004a6c\0");
        put("sys/class/net/eth0/address", "00:16:3E:0A:1B:2C\n");
        put("sys/class/net/eth0/device/x", "");
        put("sys/class/net/lo/address", "00:00:00:00:00:00\n");
        put("sys/class/net/br0/address", "02:42:ac:11:00:02\n");
        let told: Vec<String> = facts(&dir).iter().map(ToString::to_string).collect();
        std::fs::remove_dir_all(&dir).unwrap();
        assert_eq!(told.len(), 2, "{told:?}");
        assert!(told[0].contains("100000004a6c") && told[1].contains("00:16:3e:0a:1b:2c"), "{told:?}");
    }
}
