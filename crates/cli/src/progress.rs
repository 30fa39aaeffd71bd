//! How far bulk work is: a bar on a terminal, a plain line every few seconds elsewhere.

use std::io::IsTerminal;
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};

use tidy_warden_ward::bulk::Watch;

use crate::console::Console;

/// How often a plain line is written.
const EVERY: Duration = Duration::from_secs(5);

/// Tells on standard error how far the work is, measured in octets of its list.
pub(crate) struct Progress {
    shape: Shape,
    word: &'static str,
    size: u64,
    first_byte: u64,
    first_done: u64,
    begun: Instant,
}

enum Shape {
    Quiet,
    Bar(ProgressBar),
    Lines { last: Instant },
}

impl Progress {
    /// Of a list of `size` octets, of which `byte` were done before, with `done` certificates.
    pub(crate) fn start(console: &Console, size: u64, byte: u64, done: u64) -> Self {
        Self::of(console, "issued", (size, byte, done))
    }

    /// Says nothing: the work is over at once.
    pub(crate) fn none() -> Self {
        let begun = Instant::now();
        Self { shape: Shape::Quiet, word: "", size: 0, first_byte: 0, first_done: 0, begun }
    }

    /// Of `size` steps `byte` were taken before, with `done` pieces; `word` is what happens to them.
    pub(crate) fn of(console: &Console, word: &'static str, (size, byte, done): (u64, u64, u64)) -> Self {
        let now = Instant::now();
        let shape = if console.is_quiet() {
            Shape::Quiet
        } else if std::io::stderr().is_terminal() {
            let bar = ProgressBar::with_draw_target(Some(size), ProgressDrawTarget::stderr_with_hz(10));
            if let Ok(style) = ProgressStyle::with_template("[{bar:32}] {percent:>3}%  {msg}") {
                bar.set_style(style.progress_chars("=> "));
            }
            bar.set_position(byte);
            Shape::Bar(bar)
        } else {
            Shape::Lines { last: now }
        };
        Self { shape, word, size, first_byte: byte, first_done: done, begun: now }
    }

    fn text(&self, byte: u64, done: u64, refused: u64) -> String {
        let millis = u64::try_from(self.begun.elapsed().as_millis()).unwrap_or(u64::MAX).max(1);
        let rate = done.saturating_sub(self.first_done).saturating_mul(1000) / millis;
        let moved = byte.saturating_sub(self.first_byte).max(1);
        let left = self.size.saturating_sub(byte).saturating_mul(millis) / moved / 1000;
        let refused = if refused > 0 { format!(", {refused} refused") } else { String::new() };
        format!("{done} {}{refused}, {rate} a second, {} left", self.word, duration(left))
    }
}

impl Watch for Progress {
    fn reached(&mut self, byte: u64, done: u64, refused: u64) {
        if matches!(self.shape, Shape::Quiet) {
            return;
        }
        let text = self.text(byte, done, refused);
        match &mut self.shape {
            Shape::Quiet => {}
            Shape::Bar(bar) => {
                bar.set_position(byte);
                bar.set_message(text);
            }
            Shape::Lines { last } => {
                if last.elapsed() >= EVERY {
                    *last = Instant::now();
                    // Progress is a courtesy; a closed standard error takes none.
                    let _ = std::io::Write::write_all(&mut std::io::stderr(), format!("{text}\n").as_bytes());
                }
            }
        }
    }

    fn finish(&self) {
        if let Shape::Bar(bar) = &self.shape {
            bar.finish();
        }
    }
}

fn duration(seconds: u64) -> String {
    match (seconds / 3600, seconds / 60 % 60, seconds % 60) {
        (0, 0, seconds) => format!("{seconds} s"),
        (0, minutes, seconds) => format!("{minutes} min {seconds} s"),
        (hours, minutes, _) => format!("{hours} h {minutes} min"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn durations_are_for_people() {
        let told: Vec<String> = [0, 59, 61, 3600, 7384].map(duration).into();
        assert_eq!(told, ["0 s", "59 s", "1 min 1 s", "1 h 0 min", "2 h 3 min"]);
    }
}
