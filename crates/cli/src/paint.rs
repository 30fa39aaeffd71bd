//! Colour on terminals, for states and severities. It repeats what a word says, and never says more.

use std::io::IsTerminal;

/// Whether standard output takes colour: a terminal that is not told otherwise (NO_COLOR, TERM=dumb).
pub(crate) fn wanted() -> bool {
    let set = |name: &str| std::env::var_os(name).is_some_and(|value| !value.is_empty());
    std::io::stdout().is_terminal() && !set("NO_COLOR") && std::env::var_os("TERM").is_none_or(|term| term != "dumb")
}

/// The codes of a word's colour (ECMA-48 section 8.3.117); `None` for words that have none.
fn code(word: &str) -> Option<&'static str> {
    Some(match word {
        "live" | "ok" | "allowed" | "good" => "32",
        "out" | "retired" | "ended" | "revoked" | "expired" | "distrusted" | "error" | "denied" | "ENDS HERE" => "31",
        // Yellow cannot be read on white.
        "held" | "superseded" | "warning" | "WARNING" => "35",
        _ => return None,
    })
}

fn painted(word: &str) -> String {
    match code(word) {
        Some(code) => format!("\x1b[{code}m{word}\x1b[0m"),
        None => word.to_owned(),
    }
}

/// Rows of a table whose first line is `head`, with the column `state` painted.
pub(crate) fn rows(head: &str, rows: &str) -> String {
    let place = head.find("STATE").map(|octets| head[..octets].chars().count());
    let Some(place) = place else { return rows.to_owned() };
    rows.lines().map(|line| at(line, place) + "\n").collect()
}

/// A line whose word at the character `place` is painted.
fn at(line: &str, place: usize) -> String {
    let Some((start, _)) = line.char_indices().nth(place) else { return line.to_owned() };
    let (before, rest) = line.split_at(start);
    // Words of one cell stand one space apart.
    let end = rest.find("  ").unwrap_or(rest.len());
    format!("{before}{}{}", painted(&rest[..end]), &rest[end..])
}

/// A text with its severities, and the words behind `state` and `verdict`, painted.
pub(crate) fn text(text: &str) -> String {
    let line = |line: &str| {
        for mark in ["error", "warning"] {
            let first = line.strip_prefix(mark).filter(|rest| rest.starts_with(' ')).map(|_| 0);
            let inside = || line.find(&format!(": {mark} ")).map(|place| place + 2);
            if let Some(place) = first.or_else(inside) {
                return format!("{}{}{}", &line[..place], painted(mark), &line[place + mark.len()..]);
            }
        }
        let first = line.split(' ').next().unwrap_or_default();
        let head = ["state", "verdict"].into_iter().find(|head| *head == first);
        match head {
            Some(head) => {
                let gap = line[head.len()..].chars().take_while(|c| *c == ' ').count();
                at(line, head.len() + gap)
            }
            None if matches!(line, "allowed" | "denied") => painted(line),
            None => line.to_owned(),
        }
    };
    text.split_inclusive('\n')
        .map(|each| {
            let (body, end) = each.strip_suffix('\n').map_or((each, ""), |body| (body, "\n"));
            line(body) + end
        })
        .collect()
}

/// A step's line whose result stands at `place`.
pub(crate) fn step(line: &str, place: usize) -> String {
    at(line, place)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_are_painted_where_they_stand_and_nothing_else_changes() {
        let plain = "ID    STATE  NOTE\nwv-1  live   live\nwv-2  odd    x\n";
        let table = |text: &str| rows(text.lines().next().unwrap(), text);
        assert_eq!(table(plain), "ID    STATE  NOTE\nwv-1  \x1b[32mlive\x1b[0m   live\nwv-2  odd    x\n");
        assert_eq!(table("ID\nlive\n"), "ID\nlive\n");
        let told = text("a:1:2: error not-sole: x\nstate       held\nfine\nallowed\n");
        assert_eq!(
            told,
            "a:1:2: \x1b[31merror\x1b[0m not-sole: x\nstate       \x1b[35mheld\x1b[0m\nfine\n\x1b[32mallowed\x1b[0m\n"
        );
        let strip = |text: &str| {
            text.replace("\x1b[0m", "").replace("\x1b[31m", "").replace("\x1b[32m", "").replace("\x1b[35m", "")
        };
        assert_eq!(strip(&told), "a:1:2: error not-sole: x\nstate       held\nfine\nallowed\n");
        assert_eq!(step("TLS  ok  x", 5), "TLS  \x1b[32mok\x1b[0m  x");
        assert_eq!(step("TLS  ENDS HERE  x\n", 5), "TLS  \x1b[31mENDS HERE\x1b[0m  x\n");
    }
}
