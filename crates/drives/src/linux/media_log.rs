//! Where an NVMe drive tells what it wrote to its media.

use std::fs::File;

use hollow_mile_core::drive::protocol::nvme_media;
use hollow_mile_core::drive::protocol::nvme_media::{EnduranceGroup, MediaWritten, OcpHealth};

use super::health::{nvme_identify, nvme_log, nvme_log_of};
use super::pass_through::ALL_NAMESPACES;

/// Where an NVMe drive tells what it wrote to its media.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum MediaLog {
    /// Nowhere that is known.
    None,
    /// In the health log of the Open Compute Project.
    Ocp,
    /// In the log of this endurance group.
    Group(u16),
}

impl MediaLog {
    const OCP: u8 = 0xc0;

    /// How this drive tells it. Only what the drive says it has is asked for: what it has not would stand in its error log as an error of ours.
    pub fn of(file: &File, namespace: u32, controller: &[u8], version: (u16, u8, u8)) -> Self {
        let told = version.0 >= 2;
        let pages = told
            .then(|| nvme_log(file, 0, 0, nvme_media::SUPPORTED_LOG_PAGES_LENGTH).ok())
            .flatten()
            .is_some_and(|p| nvme_media::has_log_page(&p, Self::OCP).unwrap_or(false));
        if pages && Self::Ocp.read(file).is_some() {
            return Self::Ocp;
        }
        let groups = nvme_media::has_endurance_groups(controller).unwrap_or(false);
        let of_namespace = |page: Vec<u8>| nvme_media::endurance_group_of(&page).ok().flatten();
        let group = groups.then(|| nvme_identify(file, namespace, 0).ok().and_then(of_namespace)).flatten();
        group.map_or(Self::None, Self::Group)
    }

    /// What it says now.
    pub fn read(self, file: &File) -> Option<MediaWritten> {
        match self {
            Self::None => None,
            Self::Ocp => {
                let page = nvme_log(file, Self::OCP, ALL_NAMESPACES, OcpHealth::LENGTH).ok()?;
                OcpHealth::decode(&page).ok().map(|h| h.media_written)
            }
            Self::Group(group) => {
                let page = nvme_log_of(file, 9, group, 0, EnduranceGroup::LENGTH).ok()?;
                EnduranceGroup::decode(&page).ok()?.media_written
            }
        }
    }
}
