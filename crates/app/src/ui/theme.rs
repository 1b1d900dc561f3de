//! Colours, in one place. Nothing needs them: shapes and letters carry the meaning.
//!
//! Two ramps, both even in lightness from end to end so that they read in grey: speed from plum over indigo, teal and
//! moss to straw (slow to fast), heat from slate to ember. One accent. Text and ground are the terminal's own.

use ratatui::style::{Color, Modifier, Style};

/// How many colours the terminal has.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Depth {
    /// None, or `NO_COLOR` is set.
    Mono,
    /// Sixteen.
    Sixteen,
    /// The 256 of xterm.
    Indexed,
    /// Any.
    True,
}

impl Depth {
    /// From the environment: `NO_COLOR` (no-color.org), `COLORTERM`, `TERM`.
    #[must_use]
    pub fn of_terminal() -> Self {
        let var = |name: &str| std::env::var(name).unwrap_or_default();
        if !var("NO_COLOR").is_empty() || var("TERM") == "dumb" {
            return Self::Mono;
        }
        if matches!(var("COLORTERM").as_str(), "truecolor" | "24bit") {
            return Self::True;
        }
        if var("TERM").contains("256") { Self::Indexed } else { Self::Sixteen }
    }
}

type Rgb = (u8, u8, u8);

/// Lightness rises from 45 to 80 (CIE L*) in even steps, so the ramp reads on dark and on light grounds.
const SPEED: [Rgb; 5] = [(148, 74, 130), (104, 104, 190), (48, 142, 152), (118, 164, 84), (214, 184, 84)];
const HEAT: [Rgb; 4] = [(104, 122, 148), (150, 124, 130), (196, 118, 88), (226, 106, 44)];
/// What muted tones lean to, on dark and on light grounds.
const GROUNDS: [Rgb; 2] = [(44, 47, 54), (226, 228, 232)];
const LATENCY: Rgb = (128, 134, 190);
const ACCENT: Rgb = (222, 140, 60);
const SPEED_16: [Color; 5] = [Color::Magenta, Color::LightBlue, Color::Cyan, Color::Green, Color::Yellow];
const HEAT_16: [Color; 4] = [Color::DarkGray, Color::Cyan, Color::Yellow, Color::Red];

/// What the views ask for.
#[derive(Debug, Clone, Copy)]
pub struct Theme {
    depth: Depth,
    letters: Letters,
    light: bool,
}

/// Parts of a filled area, from what was always reached to what was reached now and then.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Layer {
    /// Below the slowest.
    Full,
    /// Between the slowest and the mean.
    Shaken,
    /// Between the mean and the fastest.
    Over,
}

/// Which characters the terminal can show.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Letters {
    /// Any: braille, eighth blocks, thin lines.
    All,
    /// Those of a console's own font: half blocks and plain lines.
    Console,
}

impl Letters {
    /// From the environment: the consoles of Linux and the BSDs have fonts of 256 or 512 characters.
    #[must_use]
    pub fn of_terminal() -> Self {
        let term = std::env::var("TERM").unwrap_or_default();
        if matches!(term.as_str(), "linux" | "console" | "pcvt" | "vt220" | "wsvt25" | "dumb") {
            Self::Console
        } else {
            Self::All
        }
    }
}

/// The ground is light: `HOLLOW_MILE_GROUND` says so (`light` or `dark`), or else `COLORFGBG`, which some terminals set.
#[must_use]
pub fn light_ground(said: &str, colorfgbg: &str) -> bool {
    match said {
        "light" => true,
        "dark" => false,
        // Its last number is the ground, of the sixteen: white, and the light ones.
        _ => colorfgbg.rsplit(';').next().and_then(|n| n.parse::<u8>().ok()).is_some_and(|n| n == 7 || n > 8),
    }
}

fn mix(ramp: &[Rgb], share: f64) -> Rgb {
    let at = share.clamp(0.0, 1.0) * (ramp.len() - 1) as f64;
    let i = (at.floor() as usize).min(ramp.len() - 2);
    let t = at - i as f64;
    let channel = |a: u8, b: u8| (f64::from(a) + (f64::from(b) - f64::from(a)) * t).round() as u8;
    let (a, b) = (ramp[i], ramp[i + 1]);
    (channel(a.0, b.0), channel(a.1, b.1), channel(a.2, b.2))
}

/// The nearest of the 6 × 6 × 6 cube of xterm's 256 colours.
fn indexed((r, g, b): Rgb) -> Color {
    let level = |v: u8| {
        if v < 48 {
            0
        } else if v < 115 {
            1
        } else {
            (u16::from(v) - 35) / 40
        }
    };
    Color::Indexed((16 + 36 * level(r) + 6 * level(g) + level(b)) as u8)
}

impl Theme {
    /// For a terminal of this depth.
    #[must_use]
    pub const fn new(depth: Depth) -> Self {
        Self { depth, letters: Letters::All, light: false }
    }

    /// With the characters that the terminal has.
    #[must_use]
    pub const fn with(self, letters: Letters) -> Self {
        Self { letters, ..self }
    }

    /// On a light ground.
    #[must_use]
    pub const fn on(self, light: bool) -> Self {
        Self { light, ..self }
    }

    /// Which characters there are.
    #[must_use]
    pub const fn letters(&self) -> Letters {
        self.letters
    }

    fn style(&self, rgb: Rgb, sixteen: Color) -> Style {
        match self.depth {
            Depth::Mono => Style::new(),
            Depth::Sixteen => Style::new().fg(sixteen),
            Depth::Indexed => Style::new().fg(indexed(rgb)),
            Depth::True => Style::new().fg(Color::Rgb(rgb.0, rgb.1, rgb.2)),
        }
    }

    /// Slow (0) to fast (1).
    #[must_use]
    pub fn speed(&self, share: f64) -> Style {
        let sixteen = SPEED_16[((share.clamp(0.0, 1.0) * 4.99) as usize).min(4)];
        self.style(mix(&SPEED, share), sixteen)
    }

    /// A filled area of this speed: muted, so that a large one stays calm and what lies upon it can be read.
    #[must_use]
    pub fn filled(&self, share: f64, layer: Layer) -> Style {
        let rgb = mix(&SPEED, share);
        let ground = GROUNDS[usize::from(self.light)];
        let tone = |back: f64| {
            let channel = |c: u8, g: u8| (f64::from(c) * (1.0 - back) + f64::from(g) * back).round() as u8;
            (channel(rgb.0, ground.0), channel(rgb.1, ground.1), channel(rgb.2, ground.2))
        };
        let rgb = tone(match layer {
            Layer::Full => 0.30,
            Layer::Shaken => 0.52,
            Layer::Over => 0.74,
        });
        let sixteen = SPEED_16[((share.clamp(0.0, 1.0) * 4.99) as usize).min(4)];
        let style = self.style(rgb, sixteen);
        if self.has_tones() { style } else { style.add_modifier(Modifier::DIM) }
    }

    /// A ground on dark and on light, with its place among the 256; none where there are no tones.
    const fn ground(&self, rgb: [Rgb; 2], indexed: [u8; 2]) -> Option<Color> {
        let (r, g, b) = rgb[self.light as usize];
        match self.depth {
            Depth::True => Some(Color::Rgb(r, g, b)),
            Depth::Indexed => Some(Color::Indexed(indexed[self.light as usize])),
            Depth::Mono | Depth::Sixteen => None,
        }
    }

    /// The ground of a band of what may be.
    #[must_use]
    pub const fn band(&self) -> Option<Color> {
        self.ground([(52, 56, 66), (216, 218, 224)], [237, 253])
    }

    /// The ground of what was lost, in a tone of the accent.
    #[must_use]
    pub const fn wash(&self) -> Option<Color> {
        self.ground([(74, 54, 36), (248, 226, 202)], [94, 223])
    }

    /// What a band is drawn as: `shaded`, or `dotted`.
    #[must_use]
    pub const fn band_word(&self) -> &'static str {
        if self.has_tones() { "shaded" } else { "dotted" }
    }

    /// There are colours enough for more than one tone of each.
    #[must_use]
    pub const fn has_tones(&self) -> bool {
        matches!(self.depth, Depth::Indexed | Depth::True)
    }

    /// What a whole cell of a layer is filled with: where tones cannot tell the layers apart, shades do.
    #[must_use]
    pub const fn shade(&self, layer: Layer) -> &'static str {
        match layer {
            Layer::Shaken if !self.has_tones() => "▒",
            Layer::Over if !self.has_tones() => "░",
            _ => "█",
        }
    }

    /// Cool (0) to hot (1).
    #[must_use]
    pub fn heat(&self, share: f64) -> Style {
        let sixteen = HEAT_16[((share.clamp(0.0, 1.0) * 3.99) as usize).min(3)];
        self.style(mix(&HEAT, share), sixteen)
    }

    /// Latency, between the ramps.
    #[must_use]
    pub fn latency(&self) -> Style {
        // The blue of the sixteen is too dark for a thin line on a dark ground.
        self.style(LATENCY, Color::Reset)
    }

    /// The tone of a part of the latency field, 1 where few operations lie to 4 where many do; none for 0, and where there are no
    /// tones.
    #[must_use]
    pub fn density(&self, level: usize) -> Option<Color> {
        let back = *[0.84, 0.62, 0.38, 0.10].get(level.checked_sub(1)?)?;
        let (c, g) = (LATENCY, GROUNDS[usize::from(self.light)]);
        let channel = |c: u8, g: u8| (f64::from(c) * (1.0 - back) + f64::from(g) * back).round() as u8;
        self.style((channel(c.0, g.0), channel(c.1, g.1), channel(c.2, g.2)), Color::Reset)
            .fg
            .filter(|_| self.has_tones())
    }

    /// What is drawn upon the latency field: in the colour of text.
    #[must_use]
    pub const fn latency_mark(&self) -> Style {
        Style::new().fg(Color::Reset)
    }

    /// The one accent: where the user is.
    #[must_use]
    pub fn accent(&self) -> Style {
        // Of the sixteen, the one that can be read on dark and on light grounds.
        self.style(ACCENT, Color::Magenta).add_modifier(Modifier::BOLD)
    }

    /// The chosen row.
    #[must_use]
    pub fn chosen(&self) -> Style {
        Style::new().add_modifier(Modifier::REVERSED)
    }

    /// What stands back: axes, labels, hints.
    #[must_use]
    pub fn faint(&self) -> Style {
        match self.depth {
            Depth::Mono => Style::new(),
            Depth::Sixteen => Style::new().fg(Color::DarkGray),
            Depth::Indexed => Style::new().fg(Color::Indexed(245)),
            Depth::True => Style::new().fg(Color::Rgb(134, 138, 146)),
        }
    }

    /// What stands out.
    #[must_use]
    pub fn strong(&self) -> Style {
        Style::new().add_modifier(Modifier::BOLD)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Relative luminance after WCAG 2.
    fn luminance(rgb: Rgb) -> f64 {
        let c = |v: u8| (f64::from(v) / 255.0).powf(2.2);
        0.2126 * c(rgb.0) + 0.7152 * c(rgb.1) + 0.0722 * c(rgb.2)
    }

    #[test]
    fn the_speed_ramp_rises_in_lightness_all_the_way() {
        let steps: Vec<f64> = (0..=20).map(|i| luminance(mix(&SPEED, f64::from(i) / 20.0))).collect();
        assert!(steps.windows(2).all(|w| w[1] > w[0] - 0.004), "{steps:?}");
    }

    #[test]
    fn a_light_ground_is_said_or_told_by_the_terminal() {
        for (said, told, light) in [
            ("", "", false),
            ("light", "15;0", true),
            ("dark", "0;15", false),
            ("", "0;15", true),
            ("", "15;0", false),
            ("", "0;default;15", true),
            ("", "15;8", false),
            ("dim", "x", false),
        ] {
            assert_eq!(light_ground(said, told), light, "{said:?} {told:?}");
        }
        // Paler parts lie nearer to the ground that there is.
        let l = |light, layer| match Theme::new(Depth::True).on(light).filled(0.5, layer).fg {
            Some(Color::Rgb(r, g, b)) => luminance((r, g, b)),
            other => panic!("{other:?}"),
        };
        assert!(
            l(false, Layer::Full) > l(false, Layer::Shaken)
                && l(false, Layer::Shaken) > l(false, Layer::Over)
        );
        assert!(
            l(true, Layer::Full) < l(true, Layer::Shaken) && l(true, Layer::Shaken) < l(true, Layer::Over)
        );
    }

    #[test]
    fn no_colour_means_no_colour() {
        let t = Theme::new(Depth::Mono);
        for style in [t.speed(0.3), t.heat(0.9), t.faint(), t.latency()] {
            assert_eq!(style, Style::new());
        }
    }
}
