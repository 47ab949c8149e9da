//! Colors as workbooks name them: of a palette, or of a theme with a tint.

use numerant_format::sheet::Rgb;

/// The palette of colors with numbers from 8 to 63 (ECMA-376 Part 1, 18.8.27; [MS-XLS] 2.5.161).
const PALETTE: [u32; 56] = [
    0x00_0000, 0xff_ffff, 0xff_0000, 0x00_ff00, 0x00_00ff, 0xff_ff00, 0xff_00ff, 0x00_ffff,
    0x80_0000, 0x00_8000, 0x00_0080, 0x80_8000, 0x80_0080, 0x00_8080, 0xc0_c0c0, 0x80_8080,
    0x99_99ff, 0x99_3366, 0xff_ffcc, 0xcc_ffff, 0x66_0066, 0xff_8080, 0x00_66cc, 0xcc_ccff,
    0x00_0080, 0xff_00ff, 0xff_ff00, 0x00_ffff, 0x80_0080, 0x80_0000, 0x00_8080, 0x00_00ff,
    0x00_ccff, 0xcc_ffff, 0xcc_ffcc, 0xff_ff99, 0x99_ccff, 0xff_99cc, 0xcc_99ff, 0xff_cc99,
    0x33_66ff, 0x33_cccc, 0x99_cc00, 0xff_cc00, 0xff_9900, 0xff_6600, 0x66_6699, 0x96_9696,
    0x00_3366, 0x33_9966, 0x00_3300, 0x33_3300, 0x99_3300, 0x99_3366, 0x33_3399, 0x33_3333,
];

/// The whole palette, from number 8.
pub(crate) fn palette() -> Vec<Rgb> {
    (8..8 + PALETTE.len()).filter_map(of_palette).collect()
}

/// The color with a number of the palette; `None` for those of the system.
pub(crate) fn of_palette(number: usize) -> Option<Rgb> {
    let place = if number < 8 { number } else { number - 8 };
    PALETTE.get(place).map(|color| {
        let [_, red, green, blue] = color.to_be_bytes();
        [red, green, blue]
    })
}

/// A color in six or eight hexadecimal digits, of which the first two of eight are its opacity.
pub(crate) fn of_digits(text: &str) -> Option<Rgb> {
    let digits = text.get(text.len().checked_sub(6)?..)?;
    let [_, red, green, blue] = u32::from_str_radix(digits, 16).ok()?.to_be_bytes();
    Some([red, green, blue])
}

/// A color that is darker or lighter by a tint from -1 to 1 (ECMA-376 Part 1, 18.8.19): its lightness moves
/// that part of the way to black or white, and its hue and saturation stay.
pub(crate) fn tinted(color: Rgb, tint: f64) -> Rgb {
    if tint == 0.0 {
        return color;
    }
    let [red, green, blue] = color.map(|part| f64::from(part) / 255.0);
    let (most, least) = (red.max(green).max(blue), red.min(green).min(blue));
    let lightness = f64::midpoint(most, least);
    let spread = most - least;
    let saturation = match spread {
        0.0 => 0.0,
        spread if lightness > 0.5 => spread / (2.0 - most - least),
        spread => spread / (most + least),
    };
    let hue = if spread == 0.0 {
        0.0
    } else if most == red {
        ((green - blue) / spread).rem_euclid(6.0)
    } else if most == green {
        (blue - red) / spread + 2.0
    } else {
        (red - green) / spread + 4.0
    };
    let lightness = if tint < 0.0 {
        lightness * (1.0 + tint.max(-1.0))
    } else {
        lightness * (1.0 - tint.min(1.0)) + tint.min(1.0)
    };
    let chroma = (1.0 - (2.0 * lightness - 1.0).abs()) * saturation;
    let shares = [
        (hue - 3.0).abs() - 1.0,
        2.0 - (hue - 2.0).abs(),
        2.0 - (hue - 4.0).abs(),
    ];
    shares.map(|share| {
        let part = lightness + (share.clamp(0.0, 1.0) - 0.5) * chroma;
        #[allow(
            clippy::cast_possible_truncation,
            clippy::cast_sign_loss,
            reason = "it is from 0 to 255"
        )]
        let byte = (part * 255.0).round() as u8;
        byte
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tints_move_the_lightness() {
        // What programs show for the first accent of the usual theme with its tints.
        assert_eq!(tinted([0x4f, 0x81, 0xbd], 0.0), [0x4f, 0x81, 0xbd]);
        assert_eq!(tinted([0x4f, 0x81, 0xbd], 0.8), [0xdc, 0xe6, 0xf2]);
        assert_eq!(tinted([0x4f, 0x81, 0xbd], -0.5), [0x25, 0x40, 0x61]);
        assert_eq!(tinted([0xff, 0xff, 0xff], -0.25), [0xbf, 0xbf, 0xbf]);
        assert_eq!(tinted([0, 0, 0], 0.5), [0x80, 0x80, 0x80]);
        assert_eq!(tinted([0xff, 0, 0xff], -1.0), [0, 0, 0]);
    }

    #[test]
    fn colors_are_read() {
        assert_eq!(of_palette(10), Some([0xff, 0, 0]));
        assert_eq!(of_palette(2), Some([0xff, 0, 0]));
        assert_eq!(of_palette(64), None);
        assert_eq!(of_digits("FF12AB34"), Some([0x12, 0xab, 0x34]));
        assert_eq!(of_digits("12ab34"), Some([0x12, 0xab, 0x34]));
        assert_eq!(of_digits("12"), None);
        assert_eq!(of_digits("zz12ab34"), Some([0x12, 0xab, 0x34]));
    }
}
