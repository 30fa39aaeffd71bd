//! Labels with QR codes, and figures with bars and a line over time: as SVG that stands by itself, and drawn as PNG, with a font of its own so that they look the
//! same everywhere.
//!
//! Colours can be told apart by those who see fewer of them, and bars that call for a person are hatched too: colour never says alone.

mod label;

use std::fmt::Write as _;
use std::sync::Arc;

use resvg::tiny_skia::{Pixmap, Transform};
use resvg::usvg::{Options, Tree, fontdb};

pub use label::{Label, Paper, SIZE, sheets};

/// The width of a figure in pixels.
pub const WIDTH: u32 = 1280;
/// The height of a figure in pixels.
pub const HEIGHT: u32 = 800;

/// The Latin part of DejaVu Sans (its licence stands beside it).
const FONT: &[u8] = include_bytes!("../font/DejaVuSans.ttf");

/// Where panels begin and end, in pixels.
const LEFT: f64 = 84.0;
const RIGHT: f64 = 1248.0;
const TOP: f64 = 122.0;
const BOTTOM: f64 = 744.0;
/// Between panels: the labels of one and the title of the next.
const BETWEEN: f64 = 78.0;

/// How bars are filled.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fill {
    /// What goes by itself.
    Calm,
    /// What calls for a person.
    Urgent,
    /// What is to come.
    Plain,
}

impl Fill {
    fn paint(self) -> &'static str {
        match self {
            Self::Calm => "#56b4e9",
            Self::Urgent => "url(#urgent)",
            Self::Plain => "#0072b2",
        }
    }
}

/// Values over the times of a panel.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Series {
    /// What they are.
    pub name: String,
    /// How their bars are filled; a line has a colour of its own.
    pub fill: Fill,
    /// One for each time; those that are missing are nothing.
    pub values: Vec<u64>,
}

/// Bars on one another for each time, and a line over them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Panel {
    /// What it shows.
    pub title: String,
    /// What each time is called, from left to right.
    pub times: Vec<String>,
    /// Bars, from below.
    pub bars: Vec<Series>,
    /// A line over them.
    pub line: Option<Series>,
}

/// A figure: panels below each other.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Figure {
    /// What it is about.
    pub title: String,
    /// What it says, in a line.
    pub subtitle: String,
    /// From above.
    pub panels: Vec<Panel>,
    /// When it was made, and from what.
    pub foot: String,
}

/// A figure could not be drawn.
#[derive(Debug, thiserror::Error)]
#[error("the figure cannot be drawn: {0}")]
pub struct Undrawn(String);

/// A text as XML takes it (XML 1.0 section 2.4); characters that it cannot have are left out.
fn text(words: &str) -> String {
    let mut out = String::with_capacity(words.len());
    for each in words.chars() {
        match each {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            each if each.is_control() => {}
            each => out.push(each),
        }
    }
    out
}

/// A number with its thousands apart.
fn grouped(number: u64) -> String {
    let digits = number.to_string();
    let mut out = String::new();
    for (place, digit) in digits.chars().enumerate() {
        if place > 0 && (digits.len() - place).is_multiple_of(3) {
            out.push('\u{a0}');
        }
        out.push(digit);
    }
    out
}

/// The least round number that is not below `most`, and the step between marks up to it: five at the most.
fn scale(most: u64) -> (u64, u64) {
    let most = most.max(1);
    let mut unit = 1u64;
    loop {
        for step in [1, 2, 5].map(|digit: u64| unit.saturating_mul(digit)) {
            if most.div_ceil(step) <= 5 {
                return (most.div_ceil(step).saturating_mul(step), step);
            }
        }
        unit = unit.saturating_mul(10);
    }
}

/// The nearest real number.
fn real(number: u64) -> f64 {
    let half = |number: u64| f64::from(u32::try_from(number).unwrap_or(u32::MAX));
    half(number >> 32) * 4_294_967_296.0 + half(number & 0xffff_ffff)
}

fn count(number: usize) -> f64 {
    real(u64::try_from(number).unwrap_or(u64::MAX))
}

impl Panel {
    fn most(&self) -> u64 {
        let times = 0..self.times.len();
        let at = |series: &Series, time: usize| series.values.get(time).copied().unwrap_or(0);
        let bars = times.clone().map(|time| self.bars.iter().map(|bar| at(bar, time)).sum::<u64>()).max();
        let line = self.line.iter().flat_map(|line| line.values.iter().copied()).max();
        bars.max(line).unwrap_or(0)
    }

    fn write(&self, out: &mut String, top: f64, bottom: f64) {
        let (most, step) = scale(self.most());
        let height = bottom - top;
        let y = |value: u64| bottom - height * real(value) / real(most);
        let _ = writeln!(out, "<text x=\"{LEFT}\" y=\"{:.1}\" class=\"head\">{}</text>", top - 14.0, text(&self.title));
        self.legend(out, top - 14.0);
        let mut mark = 0;
        while mark <= most {
            let _ = writeln!(
                out,
                "<line x1=\"{LEFT}\" x2=\"{RIGHT}\" y1=\"{0:.1}\" y2=\"{0:.1}\" class=\"{1}\"/><text x=\"{2}\" y=\"{3:.1}\" class=\"mark\" text-anchor=\"end\">{4}</text>",
                y(mark),
                if mark == 0 { "base" } else { "grid" },
                LEFT - 10.0,
                y(mark) + 5.0,
                grouped(mark)
            );
            mark += step;
        }
        let wide = (RIGHT - LEFT) / count(self.times.len().max(1));
        let gap = (wide * 0.18).min(6.0);
        // As many names as have room.
        let every = (92.0 / wide).ceil().max(1.0);
        for (time, name) in self.times.iter().enumerate() {
            let x = LEFT + wide * count(time);
            let mut below = 0;
            for bar in &self.bars {
                let value = bar.values.get(time).copied().unwrap_or(0);
                if value == 0 {
                    continue;
                }
                let (from, to) = (y(below), y(below + value));
                below += value;
                let _ = writeln!(
                    out,
                    "<rect x=\"{:.1}\" y=\"{to:.1}\" width=\"{:.1}\" height=\"{:.1}\" fill=\"{}\"><title>{}: {} {}</title></rect>",
                    x + gap / 2.0,
                    (wide - gap).max(0.5),
                    // What is there is seen, however little it is.
                    (from - to).max(1.0),
                    bar.fill.paint(),
                    text(name),
                    grouped(value),
                    text(&bar.name)
                );
            }
            if count(time) % every == 0.0 {
                let _ = writeln!(
                    out,
                    "<text x=\"{:.1}\" y=\"{:.1}\" class=\"mark\" text-anchor=\"middle\">{}</text>",
                    x + wide / 2.0,
                    bottom + 20.0,
                    text(name)
                );
            }
        }
        if let Some(line) = &self.line {
            let mut path = String::new();
            for (time, value) in line.values.iter().take(self.times.len()).enumerate() {
                let (from, to) = (LEFT + wide * count(time), LEFT + wide * count(time + 1));
                let _ = write!(path, "{}{from:.1} {:.1}H{to:.1}", if time == 0 { "M" } else { "L" }, y(*value));
            }
            let _ = writeln!(out, "<path d=\"{path}\" class=\"line\"/>");
        }
    }

    /// What the bars and the line are, from the right edge on.
    fn legend(&self, out: &mut String, y: f64) {
        let mut x = RIGHT;
        if let Some(line) = &self.line {
            let right = x;
            x -= 6.9 * count(line.name.chars().count());
            let _ = writeln!(
                out,
                "<text x=\"{right:.1}\" y=\"{y:.1}\" class=\"mark\" text-anchor=\"end\">{}</text><path d=\"M{:.1} {:.1}h20\" class=\"line\"/>",
                text(&line.name),
                x - 28.0,
                y - 5.0
            );
            x -= 52.0;
        }
        for bar in self.bars.iter().rev() {
            let right = x;
            x -= 6.9 * count(bar.name.chars().count());
            let _ = writeln!(
                out,
                "<text x=\"{right:.1}\" y=\"{y:.1}\" class=\"mark\" text-anchor=\"end\">{}</text><rect x=\"{:.1}\" y=\"{:.1}\" width=\"14\" height=\"14\" fill=\"{}\"/>",
                text(&bar.name),
                x - 25.0,
                y - 12.0,
                bar.fill.paint()
            );
            x -= 46.0;
        }
    }
}

impl Figure {
    /// The figure as SVG 1.1, which names no file and no address.
    #[must_use]
    pub fn svg(&self) -> String {
        let mut out = format!(
            "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{WIDTH}\" height=\"{HEIGHT}\" viewBox=\"0 0 {WIDTH} {HEIGHT}\" role=\"img\">\n\
             <title>{}</title>\n<desc>{}</desc>\n\
             <style>text{{font-family:\"DejaVu Sans\",sans-serif;fill:#1a1a1a}}.title{{font-size:24px}}.sub{{font-size:15px;fill:#444}}\
             .head{{font-size:16px}}.mark{{font-size:13px;fill:#333}}.grid{{stroke:#ddd}}.base{{stroke:#555}}\
             .line{{stroke:#1a1a1a;stroke-width:2;fill:none}}</style>\n\
             <defs><pattern id=\"urgent\" width=\"8\" height=\"8\" patternUnits=\"userSpaceOnUse\"><rect width=\"8\" height=\"8\" fill=\"#d55e00\"/>\
             <path d=\"M-2 2l4 -4M0 8l8 -8M6 10l4 -4\" stroke=\"#fff\" stroke-width=\"1.4\"/></pattern></defs>\n\
             <rect width=\"{WIDTH}\" height=\"{HEIGHT}\" fill=\"#fff\"/>\n\
             <text x=\"{LEFT}\" y=\"42\" class=\"title\">{}</text>\n<text x=\"{LEFT}\" y=\"68\" class=\"sub\">{}</text>\n",
            text(&self.title),
            text(&self.subtitle),
            text(&self.title),
            text(&self.subtitle)
        );
        let panels = count(self.panels.len().max(1));
        let height = (BOTTOM - TOP - BETWEEN * (panels - 1.0)) / panels;
        for (place, panel) in self.panels.iter().enumerate() {
            let top = TOP + (height + BETWEEN) * count(place);
            panel.write(&mut out, top, top + height);
        }
        let _ = writeln!(
            out,
            "<text x=\"{RIGHT}\" y=\"788\" class=\"mark\" text-anchor=\"end\">{}</text>",
            text(&self.foot)
        );
        out.push_str("</svg>\n");
        out
    }

    /// The figure as PNG.
    ///
    /// # Errors
    /// It cannot be drawn, which no figure of this kind is known to cause.
    pub fn png(&self) -> Result<Vec<u8>, Undrawn> {
        drawn(&self.svg(), (f64::from(WIDTH), f64::from(HEIGHT)))
    }
}

/// SVG as PNG, so many pixels wide and high.
fn drawn(svg: &str, (width, height): (f64, f64)) -> Result<Vec<u8>, Undrawn> {
    let mut fonts = fontdb::Database::new();
    fonts.load_font_data(FONT.to_vec());
    // The one there is, whatever is asked for.
    fonts.set_sans_serif_family("DejaVu Sans");
    let options = Options { fontdb: Arc::new(fonts), font_family: "DejaVu Sans".to_owned(), ..Options::default() };
    let undrawn = |why: &dyn std::fmt::Display| Undrawn(why.to_string());
    let tree = Tree::from_str(svg, &options).map_err(|error| undrawn(&error))?;
    #[expect(clippy::as_conversions, clippy::cast_possible_truncation, reason = "a few thousand pixels at the most")]
    let (pixels_wide, pixels_high) = (width.round() as u32, height.round() as u32);
    let mut pixels = Pixmap::new(pixels_wide, pixels_high).ok_or_else(|| undrawn(&"it has no room"))?;
    #[expect(clippy::as_conversions, clippy::cast_possible_truncation, reason = "a few thousand pixels at the most")]
    let (x, y) = (width as f32 / tree.size().width(), height as f32 / tree.size().height());
    resvg::render(&tree, Transform::from_scale(x, y), &mut pixels.as_mut());
    pixels.encode_png().map_err(|error| undrawn(&error))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn figure(values: &[u64], line: Option<&[u64]>) -> Figure {
        let series = |name: &str, fill, values: &[u64]| Series { name: name.into(), fill, values: values.to_vec() };
        let panel = Panel {
            title: "ends".into(),
            times: values.iter().enumerate().map(|(at, _)| format!("day {at}")).collect(),
            bars: vec![series("by itself", Fill::Calm, values), series("needs you", Fill::Urgent, values)],
            line: line.map(|line| series("spread", Fill::Plain, line)),
        };
        Figure {
            title: "<Ends> & \"more\"\u{7}".into(),
            subtitle: "s".into(),
            panels: vec![panel.clone(), panel],
            foot: "f".into(),
        }
    }

    #[test]
    fn marks_are_round_and_few() {
        for (most, wanted) in [
            (0, (1, 1)),
            (1, (1, 1)),
            (5, (5, 1)),
            (6, (6, 2)),
            (11, (15, 5)),
            (99, (100, 20)),
            (123_456, (150_000, 50_000)),
        ] {
            assert_eq!(scale(most), wanted, "{most}");
        }
        let (most, step) = scale(u64::MAX);
        assert!(most >= u64::MAX - step && step > 0);
        assert_eq!((grouped(7), grouped(1_234_567)), ("7".into(), "1\u{a0}234\u{a0}567".into()));
    }

    #[test]
    fn words_stay_words_and_every_bar_is_there() {
        let svg = figure(&[3, 0, 5], Some(&[1, 2, 3])).svg();
        assert!(svg.contains("&lt;Ends&gt; &amp; &quot;more&quot;</title>"), "{svg}");
        assert_eq!(svg.matches("<title>day ").count(), 2 * 2 * 2, "two panels, two series, two times with something");
        assert_eq!(svg.matches("class=\"line\"").count(), 4, "a line and its mark, in each panel");
        assert!(!svg.contains("http://") || svg.matches("http").count() == 1, "nothing is fetched");
        for empty in [figure(&[], None), figure(&[0], None), figure(&[u64::MAX / 4], None)] {
            assert!(!empty.svg().contains("NaN") && !empty.svg().contains("inf"), "{}", empty.svg());
        }
    }

    /// Drawn pixels: the hatched bars have their colour, words leave ink, and nothing more than that is white.
    #[test]
    fn a_png_shows_what_the_svg_says() {
        let png = figure(&[3, 9, 5], Some(&[4, 4, 4])).png().unwrap();
        let pixels = Pixmap::decode_png(&png).unwrap();
        assert_eq!((pixels.width(), pixels.height()), (WIDTH, HEIGHT));
        let has = |red: u8, green: u8, blue: u8| {
            pixels.pixels().iter().filter(|each| (each.red(), each.green(), each.blue()) == (red, green, blue)).count()
        };
        assert!(has(0xd5, 0x5e, 0x00) > 5_000, "urgent");
        assert!(has(0x56, 0xb4, 0xe9) > 5_000, "calm");
        let title = (20..50).flat_map(|y| (84..400).map(move |x| (x, y)));
        let ink = title.filter_map(|(x, y)| pixels.pixel(x, y)).filter(|each| each.red() < 0x60).count();
        assert!(ink > 200, "the title is written: {ink}");
    }
}
