//! Questions with a few answers: the method, the soil's hardness, machines, seat, stay, filling.

use crate::units::coded;
use serde::{Deserialize, Serialize};

coded!(
    /// How the probes get into the soil.
    Method {
        /// Pit or trench, probes pushed into its wall.
        Pit = "pit",
        /// Pit, each probe wholly in a recess bored into the wall.
        Recess = "recess",
        /// Narrow borehole, probes pushed into its side wall with a lever tool.
        SideWall = "side_wall",
        /// Straight borehole, probe pushed into its bottom.
        Straight = "straight",
        /// Slanted borehole.
        Slanted = "slanted",
        /// Pushed in at the surface, or a knife slot.
        Surface = "surface",
        /// Short slanted trench for one rod probe.
        ShortTrench = "short_trench",
        /// Straight borehole, probe seated in slurry.
        Slurry = "slurry",
        /// Probe at the end of a pipe that is taken out each season.
        Pipe = "pipe",
        /// The node is buried too.
        Buried = "buried",
    }
);

impl Method {
    /// What it is called.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::Pit => "pit or trench wall",
            Self::Recess => "pit wall with a bored recess",
            Self::SideWall => "side wall of a narrow borehole",
            Self::Straight => "straight borehole",
            Self::Slanted => "slanted borehole",
            Self::Surface => "push or knife slot at the surface",
            Self::ShortTrench => "short slanted trench",
            Self::Slurry => "slurry seat",
            Self::Pipe => "on a pipe, seasonal",
            Self::Buried => "node and probes wholly buried",
        }
    }

    /// What it is good for.
    #[must_use]
    pub const fn good_for(self) -> &'static str {
        match self {
            Self::Pit => "one sees the horizons, takes density cores, sets several probes in one face",
            Self::Recess => "as a pit, and the whole probe is in the wall: nothing moves while it is filled",
            Self::SideWall => "disturbs soil and plants least; several depths in one hole",
            Self::Straight => "one depth, deep, fast",
            Self::Slanted => "water does not run down the cable to the probe",
            Self::Surface => "the top 10 cm",
            Self::ShortTrench => "a rod probe near 20 cm at an angle",
            Self::Slurry => "granular matrix and gypsum blocks",
            Self::Pipe => "taken out for machines or frost; the pipe protects the cable",
            Self::Buried => "ploughed or grazed land, no masts",
        }
    }

    /// What it costs in disturbance, trouble or doubt.
    #[must_use]
    pub const fn price(self) -> &'static str {
        match self {
            Self::Pit => "most disturbance; body and plug stick out and may move while the pit is filled",
            Self::Recess => "most disturbance, and a level bore for each probe",
            Self::SideWall => "the tool needs room below the deepest probe and between probes",
            Self::Straight => "blind: only a reading proves the contact",
            Self::Slanted => "a longer hole; a collar must keep runoff out",
            Self::Surface => "boards snap on stones; nothing deeper",
            Self::ShortTrench => "one depth; the trench must be cut to the centimetre",
            Self::Slurry => "slurry of sieved native soil settles for weeks",
            Self::Pipe => "a pipe can channel water: tamp and seal; settles anew each season",
            Self::Buried => "radio through soil; must be found again",
        }
    }

    /// Whether all probes share one hole; otherwise each depth has its own.
    #[must_use]
    pub const fn shares_hole(self) -> bool {
        matches!(self, Self::Pit | Self::Recess | Self::SideWall | Self::Buried)
    }

    /// Whether the hole is bored with an auger.
    #[must_use]
    pub const fn is_bored(self) -> bool {
        matches!(self, Self::SideWall | Self::Straight | Self::Slanted | Self::Slurry | Self::Pipe)
    }
}

coded!(
    /// How hard the soil is where the probe goes.
    Hardness {
        /// A finger goes in.
        Soft = "soft",
        /// A knife goes in.
        Firm = "firm",
        /// A knife has to be hammered: dry, dense.
        Hard = "hard",
    }
);

coded!(
    /// Which machines come over the place.
    Machines {
        /// None.
        None = "none",
        /// Mowers or harvesters above the ground.
        Mowing = "mowing",
        /// A plough or another tool that works the soil.
        Ploughing = "ploughing",
    }
);

coded!(
    /// What the probe sits in.
    Seat {
        /// Soil as it was.
        Undisturbed = "undisturbed",
        /// Sieved native soil, tamped.
        Repacked = "repacked",
    }
);

coded!(
    /// Whether the probe stays.
    Stay {
        /// All years.
        Permanent = "permanent",
        /// Taken out each year.
        Seasonal = "seasonal",
    }
);

coded!(
    /// When the hole is filled.
    Fill {
        /// After each probe.
        AfterEach = "each",
        /// When all probes are in.
        AtEnd = "end",
    }
);
