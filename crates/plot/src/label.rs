//! Labels with a QR code (ISO/IEC 18004) and a few words beside it: one as SVG or PNG, or many on sheets of paper as PDF (ISO 32000-1).

use std::fmt::Write as _;

use pdf_writer::{Content, Finish, Name, Pdf, Rect, Ref, Str, TextStr};
use qrcode::{Color, EcLevel, QrCode};

use crate::{Undrawn, drawn, text};

/// The width and the height of a label in millimetres.
pub const SIZE: (f64, f64) = (62.0, 39.0);

/// The empty modules that stand around a QR code (ISO/IEC 18004 section 6.3.8).
const QUIET: usize = 4;

/// The side of the code with what stands around it, in millimetres.
const SIDE: f64 = 33.0;

/// Between the edge of a label and what stands on it, in millimetres.
const EDGE: f64 = 2.0;

/// The width of the words beside the code, in millimetres.
const WORDS: f64 = 25.0;

/// Pixels a millimetre of a picture.
const PIXELS: f64 = 20.0;

/// The longest name, in characters.
const MOST_NAME: usize = 64;

/// Points a millimetre.
const POINT: f64 = 72.0 / 25.4;

/// What a label says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Label {
    /// Who made it.
    pub maker: String,
    /// What it is on.
    pub name: String,
    /// What is typed where nothing can be scanned.
    pub code: String,
    /// What stands below it.
    pub foot: String,
    /// What the QR code says.
    pub link: String,
}

/// A sheet of paper.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Paper {
    /// 210 by 297 millimetres (ISO 216).
    A4,
    /// 8.5 by 11 inches (ANSI/ASME Y14.1).
    Letter,
}

impl Paper {
    /// Width and height in millimetres.
    fn size(self) -> (f64, f64) {
        match self {
            Self::A4 => (210.0, 297.0),
            Self::Letter => (215.9, 279.4),
        }
    }

    /// How many labels stand beside each other, and below each other.
    fn places(self) -> (usize, usize) {
        let (width, height) = self.size();
        // A printer prints nothing nearer to the edge than this.
        let fit = |whole: f64, each: f64| ((whole - 10.0) / each).floor();
        (whole(fit(width, SIZE.0)), whole(fit(height, SIZE.1)))
    }
}

/// A small count that a measure gives.
fn whole(value: f64) -> usize {
    (1..100).take_while(|count| f64::from(*count) <= value).count()
}

fn number(count: usize) -> f64 {
    u32::try_from(count).map_or(0.0, f64::from)
}

/// The modules of a QR code, row by row: whether each is dark.
struct Modules {
    width: usize,
    dark: Vec<bool>,
}

impl Modules {
    fn of(link: &str) -> Result<Self, Undrawn> {
        let code = QrCode::with_error_correction_level(link, EcLevel::M).map_err(|error| Undrawn(error.to_string()))?;
        let dark = code.to_colors().into_iter().map(|colour| colour == Color::Dark).collect();
        Ok(Self { width: code.width(), dark })
    }

    /// Each row's runs of dark modules: from where on, and how many.
    fn runs(&self) -> Vec<(usize, usize, usize)> {
        let mut runs = Vec::new();
        for (y, row) in self.dark.chunks(self.width).enumerate() {
            let mut x = 0;
            while x < row.len() {
                let len = row[x..].iter().take_while(|dark| **dark).count();
                if len > 0 {
                    runs.push((x, y, len));
                }
                x += len.max(1);
            }
        }
        runs
    }

    /// As a picture of one bit a module, 0 for dark, with what stands around it.
    fn bits(&self) -> (usize, Vec<u8>) {
        let side = self.width + 2 * QUIET;
        let mut bits = vec![0xff; side * side.div_ceil(8)];
        for (x, y, len) in self.runs() {
            for x in x..x + len {
                let (x, y) = (x + QUIET, y + QUIET);
                bits[y * side.div_ceil(8) + x / 8] &= !(0x80 >> (x % 8));
            }
        }
        (side, bits)
    }
}

/// A text cut into lines of at most so many characters: at a blank or behind a hyphen in the second half of a line, if there is one.
fn lines(words: &str, most: usize) -> Vec<String> {
    let most = most.max(1);
    let mut rest: Vec<char> = words.chars().take(MOST_NAME).collect();
    let mut all = Vec::new();
    while rest.len() > most {
        let is_end = |place: &usize| rest[place - 1] == '-' || rest[*place] == ' ';
        let cut = (most / 2..=most).rev().filter(|place| *place > 0).find(is_end).unwrap_or(most);
        let behind = rest.split_off(cut);
        all.push(rest.iter().collect());
        rest = if behind.first() == Some(&' ') { behind[1..].to_vec() } else { behind };
    }
    all.push(rest.iter().collect());
    all.retain(|line: &String| !line.is_empty());
    all
}

/// A line of a label: its text, its size and its distance from the upper edge, both in millimetres, and whether it is bold.
struct Line {
    words: String,
    size: f64,
    at: f64,
    is_bold: bool,
}

impl Label {
    /// The lines beside the code; `wide` is how many times its size a character is wide at the most.
    fn lines(&self, wide: f64) -> Vec<Line> {
        let mut all = Vec::new();
        let mut at = 7.0;
        let mut put = |words: &str, size: f64, is_bold: bool, gap: f64| {
            let most = whole(WORDS / (size * wide));
            for words in lines(words, most) {
                all.push(Line { words, size, at, is_bold });
                at += size * 1.25;
            }
            at += gap;
        };
        put(&self.maker.chars().take(26).collect::<String>(), 2.2, false, 2.0);
        // A long name is small, and none is cut off.
        let size = match self.name.chars().count() {
            0..=11 => 3.4,
            12..=30 => 2.8,
            _ => 2.1,
        };
        put(&self.name, size, true, 2.0);
        put(&self.code, 2.4, true, 1.5);
        put(&self.foot, 1.9, false, 0.0);
        all
    }

    /// The label as SVG 1.1, which names no file and no address.
    ///
    /// # Errors
    /// The link is too long for a QR code.
    pub fn svg(&self) -> Result<String, Undrawn> {
        let modules = Modules::of(&self.link)?;
        let (width, height) = SIZE;
        let mut out = format!(
            "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{width}mm\" height=\"{height}mm\" viewBox=\"0 0 {width} {height}\" role=\"img\">\n\
             <title>{}</title>\n<rect width=\"{width}\" height=\"{height}\" fill=\"#fff\"/>\n",
            text(&self.name)
        );
        let module = SIDE / number(modules.width + 2 * QUIET);
        let _ = write!(
            out,
            "<path transform=\"translate(0 {}) scale({module})\" fill=\"#000\" shape-rendering=\"crispEdges\" d=\"",
            (height - SIDE) / 2.0
        );
        for (x, y, len) in modules.runs() {
            let _ = write!(out, "M{} {}h{len}v1h-{len}z", x + QUIET, y + QUIET);
        }
        out.push_str("\"/>\n");
        for Line { words, size, at, is_bold } in self.lines(0.68) {
            let weight = if is_bold { " font-weight=\"bold\"" } else { "" };
            let _ = writeln!(
                out,
                "<text x=\"{}\" y=\"{at:.2}\" font-family=\"DejaVu Sans\" font-size=\"{size}\"{weight}>{}</text>",
                SIDE + EDGE,
                text(&words)
            );
        }
        out.push_str("</svg>\n");
        Ok(out)
    }

    /// The label as PNG, 20 pixels a millimetre.
    ///
    /// # Errors
    /// The link is too long for a QR code.
    pub fn png(&self) -> Result<Vec<u8>, Undrawn> {
        drawn(&self.svg()?, (SIZE.0 * PIXELS, SIZE.1 * PIXELS))
    }
}

/// The regular and the bold font of a sheet: two of those that every reader has (ISO 32000-1 section 9.6.2.2), all of whose characters are
/// alike wide.
const FONTS: [(&[u8], &[u8]); 2] = [(b"F0", b"Courier"), (b"F1", b"Courier-Bold")];

/// How many times its size a character of these fonts is wide.
const COURIER: f64 = 0.6;

/// A number as a PDF has it.
fn real(value: f64) -> f32 {
    #[expect(clippy::as_conversions, clippy::cast_possible_truncation, reason = "millimetres of a sheet")]
    let narrow = value as f32;
    narrow
}

/// What a font of a sheet can show of a text: nobody sees what is missing, so that nothing is left out without a sign.
fn shown(words: &str) -> Vec<u8> {
    words
        .chars()
        .map(|c| if c.is_ascii() && !c.is_control() { u8::try_from(c).unwrap_or(b'?') } else { b'?' })
        .collect()
}

/// Labels on sheets, with marks where they are cut.
///
/// # Errors
/// A link is too long for a QR code, or there are more than a document can have.
pub fn sheets(labels: &[Label], paper: Paper, title: &str) -> Result<Vec<u8>, Undrawn> {
    let (columns, rows) = paper.places();
    let (width, height) = paper.size();
    let (left, top) = ((width - SIZE.0 * number(columns)) / 2.0, (height - SIZE.1 * number(rows)) / 2.0);
    let mut next = 1;
    let mut new = || {
        next += 1;
        Ref::new(next)
    };
    let mut pdf = Pdf::new();
    let (catalog, tree, info) = (Ref::new(1), new(), new());
    let fonts = FONTS.map(|(name, font)| {
        let id = new();
        pdf.type1_font(id).base_font(Name(font)).encoding_predefined(Name(b"WinAnsiEncoding"));
        (name, id)
    });
    let mut pages = Vec::new();
    for some in labels.chunks(columns * rows) {
        let mut content = Content::new();
        content.set_line_width(0.25);
        // Marks stand outside of what is cut out.
        for column in 0..=columns {
            let x = (left + SIZE.0 * number(column)) * POINT;
            for (from, to) in [(top - 4.0, top - 1.0), (height - top + 1.0, height - top + 4.0)] {
                content.move_to(real(x), real(from * POINT)).line_to(real(x), real(to * POINT)).stroke();
            }
        }
        for row in 0..=rows {
            let y = (top + SIZE.1 * number(row)) * POINT;
            for (from, to) in [(left - 4.0, left - 1.0), (width - left + 1.0, width - left + 4.0)] {
                content.move_to(real(from * POINT), real(y)).line_to(real(to * POINT), real(y)).stroke();
            }
        }
        let mut images = Vec::new();
        for (place, label) in some.iter().enumerate() {
            let (x, y) = (left + SIZE.0 * number(place % columns), top + SIZE.1 * number(place / columns));
            let (side, bits) = Modules::of(&label.link)?.bits();
            let (image, name) = (new(), format!("Q{place}"));
            let side = i32::try_from(side).map_err(|error| Undrawn(error.to_string()))?;
            let mut object = pdf.image_xobject(image, &bits);
            object.width(side).height(side).bits_per_component(1).interpolate(false);
            object.color_space().device_gray();
            object.finish();
            let at = height - y - (SIZE.1 + SIDE) / 2.0;
            content.save_state();
            let side = real(SIDE * POINT);
            content.transform([side, 0.0, 0.0, side, real(x * POINT), real(at * POINT)]);
            content.x_object(Name(name.as_bytes())).restore_state();
            images.push((name, image));
            for Line { words, size, at, is_bold } in label.lines(COURIER) {
                content.begin_text().set_font(Name(FONTS[usize::from(is_bold)].0), real(size * POINT));
                let (x, y) = ((x + SIDE + EDGE) * POINT, (height - y - at) * POINT);
                content.next_line(real(x), real(y)).show(Str(&shown(&words))).end_text();
            }
        }
        let (page, stream) = (new(), new());
        pdf.stream(stream, &content.finish());
        let mut object = pdf.page(page);
        object.media_box(Rect::new(0.0, 0.0, real(width * POINT), real(height * POINT)));
        object.parent(tree).contents(stream);
        let mut resources = object.resources();
        let mut named = resources.fonts();
        for (name, id) in &fonts {
            named.pair(Name(name), *id);
        }
        named.finish();
        let mut named = resources.x_objects();
        for (name, id) in &images {
            named.pair(Name(name.as_bytes()), *id);
        }
        named.finish();
        resources.finish();
        object.finish();
        pages.push(page);
    }
    let count = i32::try_from(pages.len()).map_err(|error| Undrawn(error.to_string()))?;
    pdf.catalog(catalog).pages(tree);
    pdf.pages(tree).kids(pages).count(count);
    pdf.document_info(info).title(TextStr(title));
    Ok(pdf.finish())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn label(name: &str) -> Label {
        Label {
            maker: "Quillfeather Ropeways".into(),
            name: name.into(),
            code: "K7M3-D9PX-A4RTD".into(),
            foot: "until 2026-12-31".into(),
            link: format!("https://desk.example.org:8843/claim?device={name}&code=K7M3-D9PX-A4RTD"),
        }
    }

    #[test]
    fn all_of_a_name_stands_on_a_label_however_long_it_is() {
        for len in [1, 7, 11, 12, 20, 30, 31, 64] {
            let name: String = "cb-0123456789".chars().cycle().take(len).collect();
            for wide in [0.68, COURIER] {
                let lines = label(&name).lines(wide);
                let all: String = lines.iter().filter(|line| line.is_bold).map(|line| line.words.as_str()).collect();
                assert!(all.starts_with(&name), "{all}");
                let last = lines.last().unwrap();
                assert!(last.at < SIZE.1 - 1.0, "{len}: {}", last.at);
                assert!(lines.iter().all(|line| number(line.words.len()) * line.size * wide <= WORDS + 0.01));
            }
        }
    }

    #[test]
    fn a_label_is_a_picture_and_what_is_markup_stands_there_as_text() {
        let odd = Label { name: "<b>&\"".into(), maker: "\u{7}x".into(), ..label("gg-1") };
        let svg = odd.svg().unwrap();
        assert!(svg.contains("&lt;b&gt;&amp;") && !svg.contains("<b>") && !svg.contains('\u{7}'), "{svg}");
        assert!(odd.png().unwrap().starts_with(b"\x89PNG"));
        let long = Label { link: "x".repeat(9_000), ..label("gg-1") };
        assert!(long.svg().is_err() && sheets(&[long], Paper::A4, "x").is_err());
    }

    #[test]
    fn sheets_have_as_many_pages_as_they_need() {
        assert_eq!((Paper::A4.places(), Paper::Letter.places()), ((3, 7), (3, 6)));
        for (count, paper, pages) in [(1, Paper::A4, 1), (21, Paper::A4, 1), (22, Paper::A4, 2), (19, Paper::Letter, 2)]
        {
            let labels: Vec<Label> = (0..count).map(|number| label(&format!("gg-{number}"))).collect();
            let pdf = sheets(&labels, paper, "labels").unwrap();
            assert!(pdf.starts_with(b"%PDF-1."));
            let text = String::from_utf8_lossy(&pdf);
            assert_eq!(text.matches("/Type /Page\n").count() + text.matches("/Type/Page\n").count(), pages, "{count}");
        }
    }
}
