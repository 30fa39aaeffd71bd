//! Files that are read with a limit, and written whole or not at all.

use std::os::unix::fs::PermissionsExt;

use tidy_warden_ward::files::{self, Access, PendingFolder};
use tidy_warden_ward::problem::Kind;

#[test]
fn what_is_read_has_a_limit_and_what_is_missing_is_named() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a");
    std::fs::write(&path, "12345").unwrap();
    assert_eq!(files::read(&path, 5).unwrap(), b"12345");
    let long = files::read(&path, 4).unwrap_err();
    assert!(long.text_for_people().contains(&path.display().to_string()), "{}", long.text_for_people());
    std::fs::write(&path, [0xff, 0xfe]).unwrap();
    assert!(files::read_text(&path, 5).is_err(), "it is not text");
    let missing = files::read(&dir.path().join("b"), 5).unwrap_err();
    assert!(missing.text_for_people().contains('b') && missing.kind() != Kind::Refused);
    // A device file has no end.
    assert!(files::read(std::path::Path::new("/dev/zero"), 100).is_err());
}

#[test]
fn a_file_is_replaced_whole_and_a_new_one_is_never_written_over() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("list.crl");
    files::replace(&path, b"one").unwrap();
    files::replace(&path, b"two").unwrap();
    assert_eq!(std::fs::read(&path).unwrap(), b"two");
    let left: Vec<_> = std::fs::read_dir(dir.path()).unwrap().collect();
    assert_eq!(left.len(), 1, "nothing is left beside it: {left:?}");
    assert!(files::replace(&dir.path().join("none/list.crl"), b"x").is_err());

    let secret = dir.path().join("key");
    files::create(&secret, b"s", Access::Secret).unwrap();
    assert!(files::create(&secret, b"t", Access::Secret).is_err());
    assert_eq!(std::fs::read(&secret).unwrap(), b"s");
    assert!(!files::is_readable_by_others(&secret));
    std::fs::set_permissions(&secret, std::fs::Permissions::from_mode(0o644)).unwrap();
    assert!(files::is_readable_by_others(&secret));
}

#[test]
fn a_folder_appears_with_all_that_is_in_it_or_not_at_all() {
    let dir = tempfile::tempdir().unwrap();
    let place = dir.path().join("wv-1");
    {
        let folder = PendingFolder::begin(&place, "x").unwrap();
        folder.add("device.key", b"k", Access::Secret).unwrap();
    }
    assert!(std::fs::read_dir(dir.path()).unwrap().next().is_none(), "one that was given up leaves nothing");
    let mut folder = PendingFolder::begin(&place, "x").unwrap();
    folder.add("device.pem", b"p", Access::Public).unwrap();
    assert!(folder.add("device.pem", b"q", Access::Public).is_err());
    assert!(!place.exists());
    folder.sync().unwrap();
    folder.publish().unwrap();
    assert_eq!(std::fs::read(place.join("device.pem")).unwrap(), b"p");
    drop(folder);
    assert!(place.join("device.pem").exists(), "what has its place stays");
    let taken = PendingFolder::begin(&place, "y");
    let refused = match taken {
        Ok(mut folder) => folder.publish().is_err(),
        Err(_) => true,
    };
    assert!(refused && std::fs::read(place.join("device.pem")).unwrap() == b"p", "nothing is written over");

    let mut kept = PendingFolder::begin(&dir.path().join("wv-2"), "x").unwrap();
    kept.add("device.pem", b"p", Access::Public).unwrap();
    let left = kept.keep();
    drop(kept);
    assert!(left.join("device.pem").exists(), "what is recorded already is kept beside its place");
}
