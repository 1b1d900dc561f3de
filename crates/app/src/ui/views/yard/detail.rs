//! The drive under the cursor: who it is, whether it may be written, and its newest haul.

use hollow_mile_core::drive::{DriveKind, Link};
use hollow_mile_core::readings::Ruler;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use super::YardView;
use super::draw::{OnIt, on_it};
use crate::told::members;
use crate::ui::frame::Frame;
use crate::ui::live::Live;
use crate::ui::theme::Theme;
use crate::ui::widgets::panel::{Writer, wrap};
use crate::ui::widgets::{lane, ruler};

/// Who the drive under the cursor is in full, and the picture of its newest haul.
pub fn render(view: &YardView, frame: &Frame<'_>, area: Rect, buf: &mut Buffer) {
    let theme = frame.theme;
    let Some(row) = view.chosen_row() else { return };
    let d = &row.identity;
    let left = Rect { width: 44.min(area.width * 2 / 5), ..area };
    let mut out = Writer::new(left, buf);
    if let Some(trouble) = row.trouble() {
        out.text(&trouble, 2, theme.accent());
        out.gap();
    }
    let mut put = |name: &str, value: String| {
        out.pair(name, if value.is_empty() { "not known" } else { &value }, 16, theme.faint(), theme.strong())
    };
    if d.kind != DriveKind::File {
        put("named", d.target.clone());
        put("heat limit", d.throttle_limit.map_or_else(|| "none stated".into(), |t| t.to_string()));
        put("rated writes", d.rated_writes.map_or_else(|| "none stated".into(), |b| b.to_string()));
        let ceiling = d.link.as_ref().and_then(Link::payload_ceiling);
        put("link carries", ceiling.map_or_else(|| "not known".into(), |r| format!("{r} at most")));
        put("kind", if d.rotational { "platters".into() } else { "flash".into() });
        put("firmware", d.firmware.clone());
        put("block", d.block.binary());
        if let Some(facts) = &d.device {
            put("attached by", facts.transport.clone());
            put("physical block", facts.physical_block.binary());
            put("scheduler", facts.scheduler.clone());
            put("write cache", facts.write_cache.clone());
            put(
                "discard",
                if facts.discard { "passed on to the drive".into() } else { "not known to it".into() },
            );
            if !facts.bridge.is_empty() {
                put("through", facts.bridge.clone());
            }
            if let Some(rate) = facts.promised {
                put("promises", format!("{rate} in sequence at least"));
            }
            if let Some(used) = facts.utilization {
                put("allocated", format!("{used}, as the drive says"));
            }
        }
    }
    if let Some(zones) = &d.zones {
        out.pair("zones", &zones.words(), 16, theme.faint(), theme.strong());
        if let Some(now) = zones.conditions() {
            out.pair("", &now, 16, theme.faint(), theme.strong());
        }
    }
    let lines = wrap(&row.about, usize::from(left.width)).len() as u16;
    if !row.about.is_empty() && out.left() > lines {
        out.gap();
        out.text(&row.about, 0, theme.faint());
    }
    if d.kind == DriveKind::Simulated {
        out.line("Simulated: nothing real is written.", theme.faint());
    }
    let right = Rect { x: area.x + left.width + 2, width: area.width.saturating_sub(left.width + 2), ..area };
    if let Some(OnIt::Here(live)) = on_it(view, frame, row) {
        return under_way(live, right, buf, theme);
    }
    let mut out = Writer::new(right, buf);
    let built = row.now.as_ref().map(|n| n.health.members.as_slice()).unwrap_or_default();
    if !built.is_empty() {
        out.line("built of", theme.faint());
        for m in built {
            let style = if m.warnings.is_empty() { theme.strong() } else { theme.accent() };
            out.line(&members::line(m), style);
        }
        out.gap();
    }
    if let Some(e) = &row.examination {
        out.text(&e.words(), 0, theme.strong());
        for line in e.obstacles.iter().skip(1) {
            out.text(&line.to_string(), 2, theme.strong());
        }
        if !e.losses.is_empty() && row.last_haul.is_none() {
            out.gap();
            out.line("a write would cost", theme.faint());
            for line in &e.losses {
                out.text(line, 2, theme.strong());
            }
        }
        out.gap();
    }
    let left = out.left();
    let right = Rect { y: right.y + right.height - left, height: left, ..right };
    if let Some(glance) = frame.glance.as_ref().filter(|g| Some(&g.haul) == row.last_haul.as_ref()) {
        glance.render(right, buf, theme);
    }
}

/// The haul under way so far: how fast, and how warm.
fn under_way(live: &Live, area: Rect, buf: &mut Buffer, theme: &Theme) {
    if area.height < 8 || area.width < 30 {
        return;
    }
    let r = &live.readings;
    let extent = r.extent(Ruler::Elapsed);
    let columns = usize::from(area.width.saturating_sub(lane::LABELS)) * 2;
    let columns = r.columns(Ruler::Elapsed, 0.0, extent, columns);
    let lanes = area.height - 2;
    let warm = if lanes >= 9 { (lanes * 35 / 100).max(4) } else { 0 };
    lane::rate(Rect { height: lanes - warm, ..area }, buf, &columns, &[], theme);
    if warm > 0 {
        let at = Rect { y: area.y + lanes - warm, height: warm, ..area };
        lane::temperature(at, buf, &columns, r.throttle_limit().map(|l| l.degrees()), &[], &[], theme);
    }
    let below = Rect { y: area.y + lanes, height: 2, ..area };
    ruler::render(below, buf, r, Ruler::Elapsed, (0.0, extent), theme);
}
