//! Ways to make a drive forget.

use serde::{Deserialize, Serialize};

/// How a wipe leg erases.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Erasure {
    /// The drive is told that a region is no longer needed (Deallocate, TRIM, UNMAP).
    #[default]
    Discard,
    /// A region is made to read as zeroes (NVMe Write Zeroes, WRITE SAME).
    WriteZeroes,
    /// Zones are emptied, their write pointers set back (NVMe Zone Management Send, ZBC RESET WRITE POINTER).
    ResetZones,
    /// NVMe Format NVM with User Data Erase.
    Format,
    /// NVMe Format NVM with Cryptographic Erase.
    FormatCrypto,
    /// NVMe Sanitize or ATA SANITIZE DEVICE, block erase: every cell.
    SanitizeBlock,
    /// The same, crypto erase: the key is changed.
    SanitizeCrypto,
    /// The same, overwrite: once, with zeroes.
    SanitizeOverwrite,
    /// ATA SECURITY ERASE UNIT.
    SecurityErase,
    /// ATA SECURITY ERASE UNIT, enhanced: what was reallocated too.
    SecurityEraseEnhanced,
}

impl Erasure {
    /// Each.
    pub const ALL: [Self; 10] = [
        Self::Discard,
        Self::WriteZeroes,
        Self::ResetZones,
        Self::Format,
        Self::FormatCrypto,
        Self::SanitizeBlock,
        Self::SanitizeCrypto,
        Self::SanitizeOverwrite,
        Self::SecurityErase,
        Self::SecurityEraseEnhanced,
    ];

    /// As in a route file.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Discard => "discard",
            Self::WriteZeroes => "write-zeroes",
            Self::ResetZones => "reset-zones",
            Self::Format => "format",
            Self::FormatCrypto => "format-crypto",
            Self::SanitizeBlock => "sanitize-block",
            Self::SanitizeCrypto => "sanitize-crypto",
            Self::SanitizeOverwrite => "sanitize-overwrite",
            Self::SecurityErase => "security-erase",
            Self::SecurityEraseEnhanced => "security-erase-enhanced",
        }
    }

    /// What was done, behind what it was done to: `2 TB discarded`.
    #[must_use]
    pub const fn done(self) -> &'static str {
        match self {
            Self::Discard => "discarded",
            Self::WriteZeroes => "written with zeroes",
            Self::ResetZones => "reset, zone by zone",
            Self::Format => "formatted with user data erase",
            Self::FormatCrypto => "formatted with cryptographic erase",
            Self::SanitizeBlock => "sanitized by block erase",
            Self::SanitizeCrypto => "sanitized by crypto erase",
            Self::SanitizeOverwrite => "sanitized by overwriting",
            Self::SecurityErase => "erased by its security feature set",
            Self::SecurityEraseEnhanced => "erased by its security feature set, enhanced",
        }
    }

    /// It reaches the whole drive, and nothing stops it once it has begun.
    #[must_use]
    pub const fn is_whole(self) -> bool {
        !matches!(self, Self::Discard | Self::WriteZeroes | Self::ResetZones)
    }
}

impl std::fmt::Display for Erasure {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.word())
    }
}
