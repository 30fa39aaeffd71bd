//! Posts without a command line: what is refused before anything is made.

use tidy_warden_core::certificate::AltName;
use tidy_warden_core::post::PostRole;
use tidy_warden_ward::keys::Passphrase;
use tidy_warden_ward::post::{self, NewPost};
use tidy_warden_ward::problem::Kind;

use tidy_warden_rig::ward::{Bench, Holder};

#[test]
fn a_ward_in_a_file_has_no_posts_and_goes_by_its_own_settings() {
    let mut bench = Bench::new();
    let passphrase = Passphrase::new(b"of this post alone".to_vec());
    let (out, cause) = (bench.path("post"), bench.ward.cause(None));
    let new = NewPost {
        name: "guard-2".parse().unwrap(),
        role: PostRole::Guard,
        host: "localhost",
        out: &out,
        passphrase: &passphrase,
    };
    let refused = post::add(&mut bench.ward, &new, &Holder::right(), &cause).unwrap_err();
    assert_eq!(refused.kind(), Kind::Refused);
    assert!(refused.text_for_people().contains("store copy --to") && !out.exists());
    let adopted = post::adopt(&mut bench.ward, "[ward]\nname = \"n\"\n", &Holder::right(), &cause).unwrap_err();
    assert_eq!(adopted.kind(), Kind::Refused);
    assert!(!bench.ward.dir.join("keys/settings.key").exists(), "no key is made for nothing");
    assert!(bench.ward.store.adopted_settings().unwrap().is_none());
    assert_eq!(bench.ward.store.posts().unwrap(), []);
}

#[test]
fn a_folder_that_is_no_post_opens_nothing() {
    let bench = Bench::new();
    let told = |text: Option<&str>| {
        let dir = bench.path("post");
        let _ = std::fs::remove_dir_all(&dir);
        std::fs::create_dir_all(&dir).unwrap();
        if let Some(text) = text {
            std::fs::write(dir.join("post.toml"), text).unwrap();
        }
        let problem = post::open(&dir).err().unwrap();
        (problem.kind(), problem.text_for_people())
    };
    assert_eq!(told(None).0, Kind::NotFound);
    let (kind, text) = told(Some("[post]\nname = \"Guard\"\n"));
    assert_eq!(kind, Kind::Refused);
    for want in ["has mistakes", "[post] has no role", "[post] has no ward", "[post] has no settings_key", "`name`"] {
        assert!(text.contains(want), "{want}: {text}");
    }
    // One that names no database has nothing to work on.
    let key = "3059301306072a8648ce3d020106082a8648ce3d030107034200048667ab6ef1f7d159cd22c6e98daaa59c4426d71355df012623537cfaa1f43bad\
               f8ced7af5530cc1396c7ff7949bf22aa765d5c1c29d7606d9af46ba3f86ef470";
    let text =
        format!("[post]\nname = \"guard-2\"\nrole = \"guard\"\nward = \"urn:uuid:1\"\nsettings_key = \"{key}\"\n");
    let (kind, told) = told(Some(&text));
    assert_eq!(kind, Kind::Refused, "{told}");
    assert!(told.contains("names no database"), "{told}");
}

#[test]
fn a_server_has_the_name_that_it_is_reached_by_and_on_this_machine_all_of_its_names() {
    let host = |name: &str| AltName::host(name).unwrap();
    assert_eq!(post::server_names("mqtt.example.org"), [host("mqtt.example.org")]);
    assert_eq!(post::server_names("10.0.0.7"), [host("10.0.0.7")]);
    let local = [host("localhost"), host("127.0.0.1"), host("::1")];
    for name in ["localhost", "127.0.0.1", "::1"] {
        assert_eq!(post::server_names(name), local);
    }
    assert_eq!(post::toml_text("a \"b\" \\c"), r#""a \"b\" \\c""#);
}
