//! All legs of a route in a row, in proportion to the time they take: done, now, to come.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

use crate::told::road::{Road, Stands};
use crate::ui::theme::Theme;

/// Columns of each leg: by their share, one at the least as long as there is room, all of the width together.
fn columns(shares: &[f64], width: u16) -> Vec<u16> {
    let mut edge = 0.0;
    let mut from = 0u16;
    let left = |i: usize| (shares.len() - 1 - i) as u16;
    let mut out = Vec::with_capacity(shares.len());
    for (i, share) in shares.iter().enumerate() {
        edge += share * f64::from(width);
        let most = width.saturating_sub(left(i)).max(from);
        let to = (edge.round() as u16).max(from + 1).min(most);
        out.push(to - from);
        from = to;
    }
    out
}

/// Draws it in one row. A leg that is over is a heavy line, one to come a broken one; what failed has a sign of its own.
pub fn render(road: &Road, area: Rect, buf: &mut Buffer, theme: &Theme) {
    if area.width < 8 || area.height == 0 {
        return;
    }
    let mut x = area.x;
    for (leg, width) in road.legs.iter().zip(columns(&road.shares(), area.width)) {
        let behind = match (leg.stands, leg.whole) {
            (Stands::Done | Stands::Cut | Stands::Failed, _) => width,
            (Stands::Ahead, _) => 0,
            (Stands::Now, Some(whole)) if !whole.is_zero() => {
                let share = leg.took.as_secs_f64() / whole.as_secs_f64();
                (share * f64::from(width)).round().min(f64::from(width)) as u16
            }
            // How far it is, nothing tells.
            (Stands::Now, _) => width.div_ceil(2),
        };
        for i in 0..width {
            let (symbol, style) = match leg.stands {
                Stands::Failed => ("!", theme.accent()),
                Stands::Cut => ("╍", theme.strong()),
                _ if i < behind => {
                    ("━", if leg.stands == Stands::Now { theme.accent() } else { theme.strong() })
                }
                Stands::Now => ("─", theme.accent()),
                _ => ("╌", theme.faint()),
            };
            buf.set_string(x + i, area.y, symbol, style);
        }
        // Its name on it where that leaves something of the line.
        let name = format!(" {} ", leg.word);
        if width as usize >= name.len() + 4 {
            let style = if leg.stands == Stands::Now { theme.accent() } else { Style::new() };
            buf.set_string(x + 1, area.y, name, style);
        }
        if width > 1 {
            buf.set_string(x + width - 1, area.y, "┤", theme.faint());
        }
        x += width;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn legs_fill_the_row_in_proportion_and_none_is_lost() {
        assert_eq!(columns(&[0.5, 0.25, 0.25], 80), [40, 20, 20]);
        assert_eq!(columns(&[0.999, 0.001], 40), [39, 1]);
        assert_eq!(columns(&[0.001, 0.999], 40), [1, 39]);
        let many = columns(&[0.01; 100], 40);
        assert_eq!(many.iter().map(|w| u32::from(*w)).sum::<u32>(), 40, "more legs than columns");
        let even: Vec<f64> = (0..7).map(|_| 1.0 / 7.0).collect();
        assert_eq!(columns(&even, 50).iter().sum::<u16>(), 50);
    }
}
