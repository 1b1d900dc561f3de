//! What a freight leg asks of a drive: which tree, and how.

use std::sync::Arc;

use super::Haul;
use crate::drive::freight::{Freight, Tree};
use crate::drive::{Drive, DriveError, Load};
use crate::route::{Leg, LegKind};

impl<D: Drive> Haul<D> {
    /// The load of a leg, with what it does with files.
    pub(super) fn load_with_freight(&self, index: usize, leg: &Leg) -> Result<Load, DriveError> {
        let mut load = self.load(index, leg);
        if leg.kind == LegKind::Freight {
            load.freight = Some(self.freight(index, leg)?);
        }
        Ok(load)
    }

    /// What a leg does with files: with the tree that it states, or the one that was stated last before it.
    fn freight(&self, index: usize, leg: &Leg) -> Result<Freight, DriveError> {
        let refused = |why: String| DriveError::Refused {
            target: self.drive.identity().target.clone(),
            doing: "making the tree of files",
            why,
        };
        let legs = &self.setup.route.legs[..=index];
        let stated = legs.iter().rev().find(|l| l.has_tree());
        let stated = stated.ok_or_else(|| refused("no leg says of what files it is".into()))?;
        let tree: Arc<Tree> = match &stated.like {
            Some(like) => {
                let known = self.setup.trees.get(like).cloned();
                known.ok_or_else(|| refused(format!("the shape of {like} was not read")))?
            }
            None => Arc::new(stated.tree_spec().make().map_err(refused)?),
        };
        Ok(Freight {
            carry: leg.carry,
            side: leg.at,
            tree,
            through: leg.through,
            durable: leg.sync,
            order: leg.order,
            duplicates_percent: leg.duplicates_percent,
            resumed: false,
        })
    }
}
