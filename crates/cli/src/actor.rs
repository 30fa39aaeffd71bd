//! Who acts, for the audit record.

/// Who acts, for the audit record: the account, and the name that was claimed, as claimed.
pub(crate) fn actor() -> String {
    let account = account();
    match std::env::var("TIDY_WARDEN_ACTOR").ok().filter(|name| !name.is_empty()) {
        Some(claimed) => format!("{account} (as {:?})", claimed.chars().take(64).collect::<String>()),
        None => account,
    }
}

/// The account that the process runs under, by its name where the system knows one.
fn account() -> String {
    let uid = rustix::process::getuid().as_raw();
    let known = std::fs::read_to_string("/etc/passwd").unwrap_or_default();
    let name = known.lines().find_map(|line| {
        let mut fields = line.split(':');
        let (name, number) = (fields.next()?, fields.nth(1)?);
        (number.parse() == Ok(uid)).then(|| name.to_owned())
    });
    name.filter(|name| !name.is_empty()).map_or_else(|| format!("uid-{uid}"), |name| name.chars().take(64).collect())
}
