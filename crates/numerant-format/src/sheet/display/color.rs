//! The colors that the sections of a number format have: `[Red]`, `[Color 10]`.

use crate::sheet::Rgb;

/// The colors by name.
const NAMED: [(&str, Rgb); 8] = [
    ("black", [0, 0, 0]),
    ("blue", [0, 0, 0xff]),
    ("cyan", [0, 0xff, 0xff]),
    ("green", [0, 0xff, 0]),
    ("magenta", [0xff, 0, 0xff]),
    ("red", [0xff, 0, 0]),
    ("white", [0xff, 0xff, 0xff]),
    ("yellow", [0xff, 0xff, 0]),
];

/// The color of each section of a code.
pub(super) fn colors(code: &str) -> Vec<Option<Rgb>> {
    let mut colors = vec![None];
    let mut signs = code.chars();
    while let Some(sign) = signs.next() {
        match sign {
            '\\' | '_' | '*' => drop(signs.next()),
            '"' => drop(signs.by_ref().find(|sign| *sign == '"')),
            ';' => colors.push(None),
            '[' => {
                let inside: String = signs.by_ref().take_while(|sign| *sign != ']').collect();
                let inside = inside.to_ascii_lowercase();
                let found = NAMED.iter().find(|(name, _)| *name == inside);
                if let (Some((_, color)), Some(last)) = (found, colors.last_mut()) {
                    *last = Some(*color);
                }
            }
            _ => {}
        }
    }
    colors
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sections_have_colors() {
        let red = Some([0xff, 0, 0]);
        assert_eq!(colors("0;[Red]-0"), [None, red]);
        assert_eq!(colors("[RED]0\";[Blue]\";0\\;"), [red, None]);
        assert_eq!(colors("[>5][Red]0;\"["), [red, None]);
        assert_eq!(colors(""), [None]);
    }
}
