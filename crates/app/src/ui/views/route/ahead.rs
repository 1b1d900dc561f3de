//! What is expected of a route on the drive that it is planned for.

use hollow_mile_core::archive::forecast::Air;
use hollow_mile_core::drive::DriveKind;
use hollow_mile_core::quantity::units::Bytes;
use hollow_mile_core::record::forecast::Forecast;
use hollow_mile_core::route::{LaidOn, Route};

use std::rc::Rc;

use super::{Field, RouteView};

impl RouteView {
    /// The place of the leg that the cursor is on, while it is among the figures.
    pub(super) fn leg_under_cursor(&self) -> Option<usize> {
        match self.fields().get(self.field).filter(|_| self.in_figures) {
            Some(Field::Of(place, _)) => Some(*place),
            _ => None,
        }
    }

    /// What is expected of the route on the first of its drives.
    pub(super) fn outlook(&self) -> Option<Rc<Outlook>> {
        let (route, drive) = (self.draft.as_ref()?, self.drives.first()?);
        let capacity = self.capacity_of(&drive.identity);
        let asked = Asked { route: route.clone(), capacity, air: Air::of(&self.conditions) };
        if let Some((of, outlook)) = self.ahead.borrow().as_ref()
            && *of == asked
        {
            return Some(Rc::clone(outlook));
        }
        let on = LaidOn::file_system_if(drive.identity.kind == DriveKind::File);
        let route = route.laid_out(on);
        // A sweep of hundreds of legs is no picture.
        if route.legs.len() > 40 {
            return None;
        }
        let forecast = drive.known.forecast(&route, capacity, &asked.air);
        let spans = drive.known.legs(&route, capacity);
        let spans = spans.into_iter().map(|s| s.map(|s| s.likely.as_secs_f64())).collect();
        let outlook = Rc::new(Outlook { route, forecast, spans });
        *self.ahead.borrow_mut() = Some((asked, Rc::clone(&outlook)));
        Some(outlook)
    }
}

/// What an outlook depends on; the drive is the same for as long as the view is.
#[derive(PartialEq)]
pub(super) struct Asked {
    route: Route,
    capacity: Bytes,
    air: Air,
}

/// What is expected of a route.
pub(super) struct Outlook {
    /// As it is laid out.
    pub route: Route,
    pub forecast: Forecast,
    /// The time of each leg that an estimate tells, s.
    pub spans: Vec<Option<f64>>,
}
