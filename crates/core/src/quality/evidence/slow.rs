//! What shows over days or between channels: clocks, noise, water, heat, twins.

use super::{Figure, evidence};

evidence!(
    /// What a late delivery is told by.
    LateEvidence {
        /// Hours from the last of these readings to the first reading that had arrived before them.
        behind_h: Figure,
        /// How many readings.
        readings: Figure,
    }
);

evidence!(
    /// What a wrong clock is told by.
    ClockEvidence {
        /// How the difference grows, seconds a day.
        drift_s_per_day: Figure,
        /// How far the stamps are from the true time as far as it can be told, seconds; positive: the clock was ahead.
        shift_s: Figure,
    }
);

evidence!(
    /// What a burst of noise is told by, in the channel's unit.
    NoiseEvidence {
        /// How far a reading strays from the middle of its neighbours at the worst, median over four hours.
        burst: Figure,
        /// The same in the two weeks around.
        usual: Figure,
    }
);

evidence!(
    /// What a rise without water is told by, in the channel's unit.
    RiseEvidence {
        /// How far it rose and stayed.
        rise: Figure,
        /// How far this record rises in dry weather at most (98.5th percentile).
        usual: Figure,
    }
);

evidence!(
    /// What a missed rain is told by.
    MissesRainEvidence {
        /// The share of such storms that this probe answers.
        answers: Figure,
        /// What fell, mm.
        rain_mm: Figure,
        /// How far the probe rose, in its unit.
        rise: Figure,
        /// How far it usually rises (median), in its unit.
        usual_rise: Figure,
    }
);

evidence!(
    /// What a wetting against the order of depths is told by.
    OrderEvidence {
        /// By how much it came before the next shallower probe, minutes, where that one answered.
        ahead_min: Option<Figure>,
        /// Depth of that shallower probe, cm.
        above_cm: Figure,
        /// What fell, mm, where a gauge tells.
        rain_mm: Option<Figure>,
        /// How far this probe rose, in its unit.
        rise: Figure,
        /// In how many storms this probe did so.
        storms: Figure,
    }
);

evidence!(
    /// What an effect of temperature is told by.
    WiggleEvidence {
        /// How well days agree in size and phase, 0 to 1 (length of the mean resultant).
        agreement: Figure,
        /// How many days it rests on.
        days: Figure,
        /// Water content for each kelvin of the probe's own temperature, m³/m³.
        per_k: Figure,
    }
);

evidence!(
    /// What an order of heat that is upside down is told by.
    HeatEvidence {
        /// Depth as it is noted, cm.
        depth_cm: Figure,
        /// The share of judged days on which a shallower thermometer has the smaller and later wave.
        inverted: Figure,
        /// The depth that the wave has, by the other thermometers, cm, where it can be told.
        looks_like_cm: Option<Figure>,
        /// Amplitude here over that of the shallower thermometer, median.
        ratio: Figure,
    }
);

evidence!(
    /// What twins that drift apart are told by, in the channel's unit.
    PairEvidence {
        /// How far their difference has moved at most, as a median of five days.
        apart: Figure,
        /// How far it moves while all is well.
        usual: Figure,
    }
);

evidence!(
    /// What a disagreement with a reference is told by, in the channel's unit.
    ReferenceEvidence {
        /// Record less reference.
        difference: Figure,
        /// The reference.
        reference: Figure,
        /// Half width within which both would agree.
        within: Figure,
    }
);

evidence!(
    /// What air warmed by the sun is told by.
    SunlitEvidence {
        /// How much warmer than the other thermometer by day, less the same by night, K.
        excess_k: Figure,
        /// On how many days of the record it is so.
        days: Figure,
    }
);

evidence!(
    /// What a supply that runs down is told by.
    LowPowerEvidence {
        /// The lowest voltage, V.
        lowest: Figure,
        /// Below this it is low, V.
        knee: Figure,
    }
);

evidence!(
    /// What water in the box is told by.
    WetBoxEvidence {
        /// Humidity in it, mean of the wettest day, %.
        humidity: Figure,
        /// What it usually is, %.
        usual: Figure,
    }
);

evidence!(
    /// What exchanged ports are told by.
    SwapEvidence {
        /// The jumps at both ends, in usual wiggles, if each port is taken for what it is said to be.
        as_noted: Figure,
        /// Depth as it is noted, cm.
        depth_cm: Figure,
        /// The same jumps if the two are exchanged.
        exchanged: Figure,
        /// Depth of the other port's probe, cm.
        other_cm: Figure,
    }
);
