//! The drawing in pixels (PNG): for what shows no SVG, such as a job sheet of an office program.

use resvg::{
    render,
    tiny_skia::{Pixmap, Transform},
    usvg::{Options, Tree},
};

/// Pixels of one of the drawing's own: sharp on paper, and on screens of today.
const SHARP: f32 = 2.0;

/// A drawing as a picture.
///
/// The letters are those that the program brings along, so that it looks alike everywhere; what they lack, as names in
/// other scripts, is taken from the machine where it has it.
///
/// # Errors
/// In words, where it is larger than a picture can be.
pub(super) fn of(drawing: &str) -> Result<Vec<u8>, String> {
    let mut options = Options::default();
    let letters = options.fontdb_mut();
    letters.load_font_data(dejavu::sans::regular().to_vec());
    letters.load_font_data(dejavu::sans::bold().to_vec());
    letters.set_sans_serif_family("DejaVu Sans");
    if drawing.chars().any(foreign) {
        letters.load_system_fonts();
    }
    let tree = Tree::from_str(drawing, &options).map_err(|error| error.to_string())?;
    let size = tree.size().to_int_size().scale_by(SHARP).ok_or("it is too large")?;
    let mut pixels = Pixmap::new(size.width(), size.height()).ok_or("it is too large")?;
    render(&tree, Transform::from_scale(SHARP, SHARP), &mut pixels.as_mut());
    pixels.encode_png().map_err(|error| error.to_string())
}

/// True for letters of scripts that the fonts of the program do not have: from India eastwards.
fn foreign(letter: char) -> bool {
    letter >= '\u{700}' && !('\u{1E00}'..'\u{2C00}').contains(&letter)
}
