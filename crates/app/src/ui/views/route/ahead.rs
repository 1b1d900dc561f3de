//! What is expected of a route on the drive that it is planned for.

use hollow_mile_core::archive::forecast::Air;
use hollow_mile_core::drive::DriveKind;
use hollow_mile_core::record::forecast::Forecast;
use hollow_mile_core::route::{LaidOn, Route};

use super::{Field, RouteView};

impl RouteView {
    /// The place of the leg that the cursor is on, while it is among the figures.
    pub(super) fn leg_under_cursor(&self) -> Option<usize> {
        match self.fields().get(self.field).filter(|_| self.in_figures) {
            Some(Field::Of(place, _)) => Some(*place),
            _ => None,
        }
    }

    /// What is expected of the route on the first of its drives: the route as it is laid out, the forecast, and the time of each leg
    /// that an estimate tells, s.
    pub(super) fn outlook(&self) -> Option<(Route, Forecast, Vec<Option<f64>>)> {
        let (route, drive) = (self.draft.as_ref()?, self.drives.first()?);
        let on = LaidOn::file_system_if(drive.identity.kind == DriveKind::File);
        let route = route.laid_out(on);
        // A sweep of hundreds of legs is no picture.
        if route.legs.len() > 40 {
            return None;
        }
        let capacity = self.capacity_of(&drive.identity);
        let forecast = drive.known.forecast(&route, capacity, &Air::of(&self.conditions));
        let spans = drive.known.legs(&route, capacity);
        let spans = spans.into_iter().map(|s| s.map(|s| s.likely.as_secs_f64())).collect();
        Some((route, forecast, spans))
    }
}
