//! An example for each command, shown at the end of its help. A test parses them all.

use clap::Command;

/// Commands and examples of them.
const EXAMPLES: &[(&str, &str)] = &[
    ("init", "init --name 'Quillfeather Ropeways' --host mqtt.example.org --guard-passphrase-file guard.txt"),
    ("authority list", "authority list"),
    ("authority add", "authority add devices-2027 --replaces devices --because 'yearly'"),
    ("authority retire", "authority retire devices-2026 --because 'its key was copied'"),
    ("authority judge", "authority judge device.pem --chain chain.pem --root root.pem --crl devices.crl.pem"),
    ("authority show", "authority show devices"),
    ("authority export", "authority export --out trust"),
    ("settings check", "settings check"),
    ("settings adopt", "settings adopt --because 'shorter lives for wind vanes'"),
    ("passphrase change", "passphrase change --new-passphrase-file new.txt --because 'ada left'"),
    ("passphrase show", "passphrase show"),
    ("passphrase share", "passphrase share --people 5 --need 3 --out shares --because 'no one alone'"),
    ("passphrase combine", "passphrase combine --share ada.txt --share bo.txt --share cy.txt --out root.txt"),
    ("device add", "device add wv-0417 --kind windvane --label site=ossel --fact serial=QF-0417"),
    ("device import", "device import fleet.csv --rejects refused.csv"),
    ("device list", "device list --where 'kind = windvane and cert.ends within 60d' --columns id,site,ends"),
    ("device show", "device show wv-0417 --at 2026-11-24T08:00:00Z"),
    ("device events", "device events wv-0417 --last 20"),
    ("device edit", "device edit wv-0417 --label site=brindle --because 'moved to the north line'"),
    ("device retire", "device retire wv-0417 --because 'scrapped'"),
    ("device accept", "device accept gg-10 --code 7fq2-m3xa-kd5e-w6ty-pv4n-2ocz --label site=quay"),
    ("device refuse", "device refuse gg-11 --because 'not ours'"),
    ("device retained", "device retained wv-0417 --clear --because 'stolen from pylon 6'"),
    ("device reopen", "device reopen wv-0417 --because 'found again'"),
    ("group make", "group make alps --where 'site in (ossel, brindle)'"),
    ("group list", "group list"),
    ("group show", "group show alps"),
    ("group drop", "group drop alps"),
    ("admission open", "admission open --id gg-9 --kind gauge --fact serial=ZX-9 --secret --out secret.txt --for 30d"),
    ("admission import", "admission import admissions.csv --out secrets.csv"),
    ("admission list", "admission list --state open"),
    ("admission show", "admission show A7"),
    ("admission withdraw", "admission withdraw A7 --because 'the box never arrived'"),
    ("owner add", "owner add brindle-pass --contact 'lifts@brindle.example' --place site=brindle"),
    ("owner edit", "owner edit brindle-pass --place site=brindle-north"),
    ("owner list", "owner list"),
    ("owner show", "owner show brindle-pass"),
    ("owner link", "owner link brindle-pass --for 7d"),
    ("owner token", "owner token brindle-pass --scope devices:read --for 30d --out brindle.token"),
    ("owner sign-out", "owner sign-out brindle-pass --because 'a phone was lost'"),
    ("owner unlock", "owner unlock brindle-pass --because 'they misread the label'"),
    ("owner retire", "owner retire brindle-pass --because 'the resort closed'"),
    ("claim open", "claim open --where 'kind = cabin and not owner known' --count 300 --out codes.csv"),
    ("claim print", "claim print --from codes.csv --sheet stickers.pdf --paper a4"),
    ("claim close", "claim close cb-07 --because 'the letter was opened'"),
    ("claim take", "claim take cb-07 --code-file code.txt --owner brindle-pass"),
    ("claim list", "claim list"),
    ("claim give-up", "claim give-up cb-07 --because 'sent back'"),
    ("claim hand-over", "claim hand-over cb-07 --to saint-ivo"),
    ("claim voucher", "claim voucher cb-07 --owner brindle-pass --owner-cert owner.pem --out cb-07.vcj"),
    ("claim check-voucher", "claim check-voucher cb-07.vcj --root root.pem --serial QF-0007"),
    ("job list", "job list --all"),
    ("job show", "job show 7"),
    ("job resume", "job resume 7"),
    ("job stop", "job stop 7"),
    ("enroll", "enroll --from fleet.csv --pack fleet.tar.zst"),
    ("outfit show", "outfit show gt-01 --as card"),
    ("outfit refresh", "outfit refresh --where 'kind = windvane' --out outfits"),
    ("credential list", "credential list --where 'cert.ends within 30d'"),
    ("credential show", "credential show --cert device.pem"),
    ("credential pin", "credential pin wv-0417 --public-key wv-0417.pem --until 2027-12-31T00:00:00Z"),
    ("key add", "key add gt-01 --public-key gt-01.pub.pem --for 90d --note 'left reader'"),
    ("key list", "key list gt-01"),
    ("key retire", "key retire gt-01 vB2kOnd1C5pvQ0VhfbEoLQ --because 'it leaked'"),
    ("key rotate", "key rotate gt-01 --shared --out gt-01.jwk --overlap 7d"),
    ("key block", "key block --from known-weak-keys.txt --because 'published keys'"),
    ("key blocked", "key blocked"),
    ("token issue", "token issue gt-01 --for 8h --scope 'publish rope/ossel/gt-01/count'"),
    ("token read", "token read --file token.txt"),
    ("token verify", "token verify --file token.txt"),
    ("token block", "token block --token token.txt --because 'seen in a log'"),
    ("token blocked", "token blocked"),
    ("token signer list", "token signer list"),
    ("token signer add", "token signer add --type ed25519 --because 'yearly'"),
    ("token signer retire", "token signer retire tokens --because 'its successor signs since a month'"),
    ("policy check", "policy check --strict"),
    ("policy ask", "policy ask wv-0417 publish rope/ossel/wv-0417/wind --qos 1"),
    ("policy reach", "policy reach 'rope/+/+/brake'"),
    ("policy compare", "policy compare 1 draft"),
    ("policy adopt", "policy adopt --trial 7d --because 'gusts'"),
    ("policy editions", "policy editions"),
    ("policy format", "policy format --check"),
    ("policy draft", "policy draft --from observed.jsonl"),
    ("policy trial", "policy trial"),
    ("guard", "guard --broker 127.0.0.1:1883 --listen 0.0.0.0:8883"),
    ("desk", "desk --listen 0.0.0.0:8843 --listen-http 0.0.0.0:8080"),
    ("join", "join https://desk.example.org:8843 --root root.pem --kind windvane --fact serial=QF-9 --out outfit"),
    ("post add", "post add guard-2 --role guard --host mqtt-2.example.org --out post-2"),
    ("post list", "post list"),
    ("post renew", "post renew guard"),
    ("post retire", "post retire guard-2 --because 'the machine was given back'"),
    ("probe", "probe wv-0417 --outfit outfits"),
    ("watch", "watch --where 'kind = windvane' --only refused,cut"),
    ("due", "due --within 90d --by site --plot due.svg"),
    (
        "rotation prepare",
        "rotation prepare spring --where 'kind = windvane' --rounds 1%,10%,100% --because 'new key type'",
    ),
    ("rotation start", "rotation start spring"),
    ("rotation stop", "rotation stop spring"),
    ("rotation resume", "rotation resume spring --because 'the desk is there again'"),
    ("rotation status", "rotation status spring"),
    ("rotation list", "rotation list"),
    ("rotation show", "rotation show spring"),
    ("rotation run", "rotation run spring --once"),
    ("errand send", "errand send wv-0417 restart --wait 10s"),
    ("errand list", "errand list --device wv-0417"),
    ("errand show", "errand show 7"),
    ("notice list", "notice list"),
    ("notice test", "notice test"),
    ("notice key", "notice key"),
    ("reflex list", "reflex list"),
    ("reflex test", "reflex test"),
    ("reflex undo", "reflex undo copied-keys --because 'two gateways behind one line'"),
    ("reflex resume", "reflex resume copied-keys"),
    ("hold", "hold wv-0417 --because 'odd readings'"),
    ("release", "release --where 'site = ossel' --count 12"),
    ("revoke", "revoke wv-0417 --reason keyCompromise --because 'stolen from pylon 6'"),
    ("crl", "crl --out devices.crl.pem --for 7d"),
    ("audit log", "audit log --subject wv-0417 --last 20"),
    ("audit verify", "audit verify --head kept/ward.head"),
    ("audit head", "audit head --out kept/ward.head"),
    ("store show", "store show --format json"),
    ("store copy", "store copy --to 'postgresql:///north?host=/run/postgresql&user=north_operator'"),
    ("store backup", "store backup --out ward.backup --backup-passphrase-file backup.txt"),
    ("store restore", "store restore ward.backup --backup-passphrase-file backup.txt"),
    ("store check", "store check"),
    ("store roles", "store roles --out roles.sql"),
    ("store accept", "store accept --because 'restored after the disk failed'"),
    ("simulate", "simulate --outfits outfits --for 1m --misbehave wrong-topics"),
    ("simulate load", "simulate load --outfits outfits --publishers 20"),
    ("simulate scale", "simulate scale --devices 10000 --for 10m"),
    ("demo", "demo --keep demo"),
];

/// What is said where a condition can be given.
const CONDITIONS: &str = "\n\nConditions: kind = windvane and site in (ossel, brindle) and not state = live; all of them are in \
                          docs/policies.md, Conditions.";

/// The commands with their examples.
pub(crate) fn with_examples(command: Command) -> Command {
    EXAMPLES.iter().fold(command, |command, (path, example)| {
        let words: Vec<&str> = path.split(' ').collect();
        at(command, &words, &format!("Example:\n  tidy-warden {example}"))
    })
}

fn at(command: Command, path: &[&str], text: &str) -> Command {
    match path.split_first() {
        None => {
            let picks = command.get_arguments().any(|argument| argument.get_long() == Some("where"));
            command.after_help(text.to_owned() + if picks { CONDITIONS } else { "" })
        }
        Some((first, rest)) => command.mut_subcommand(first, |command| at(command, rest, text)),
    }
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    use super::*;
    use crate::args::Cli;

    /// The words of an example as a shell would split them.
    fn words(example: &str) -> Vec<String> {
        let mut words = Vec::new();
        for (at, part) in example.split('\'').enumerate() {
            match at % 2 {
                0 => words.extend(part.split_whitespace().map(str::to_owned)),
                _ => words.push(part.to_owned()),
            }
        }
        words
    }

    fn leaves(command: &Command, path: &str, found: &mut Vec<String>) {
        for below in command.get_subcommands().filter(|below| !below.is_hide_set() && below.get_name() != "help") {
            let path = format!("{path} {}", below.get_name()).trim().to_owned();
            match below.get_subcommands().any(|below| below.get_name() != "help") {
                true => leaves(below, &path, found),
                false => found.push(path),
            }
        }
    }

    #[test]
    fn every_command_has_an_example_that_is_a_call_of_it() {
        let mut all = Vec::new();
        leaves(&Cli::command(), "", &mut all);
        let have: Vec<&str> = EXAMPLES.iter().map(|(path, _)| *path).collect();
        all.iter().for_each(|path| assert!(have.contains(&path.as_str()), "{path} has no example"));
        for (path, example) in EXAMPLES {
            assert!(example.starts_with(path), "{example} is no example of {path}");
            let call = std::iter::once("tidy-warden".to_owned()).chain(words(example));
            let parsed = with_examples(Cli::command()).try_get_matches_from(call);
            assert!(parsed.is_ok(), "{example}: {}", parsed.unwrap_err());
        }
    }
}
