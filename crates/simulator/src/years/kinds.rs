//! Kinds of faults, and which tests may name each.

use ebrel_core::quality::Test;

/// How plain a fault is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Severity {
    /// Near what the record does anyway.
    Subtle,
    /// Plain to somebody who looks.
    Clear,
    /// Seen from afar.
    Blatant,
}

impl Severity {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Subtle, Self::Clear, Self::Blatant];

    /// Its name.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Subtle => "subtle",
            Self::Clear => "clear",
            Self::Blatant => "blatant",
        }
    }

    /// One of three numbers.
    pub(super) const fn of<T: Copy>(self, subtle: T, clear: T, blatant: T) -> T {
        match self {
            Self::Subtle => subtle,
            Self::Clear => clear,
            Self::Blatant => blatant,
        }
    }
}

/// Makes the kinds with their names and the tests that may name them.
macro_rules! kinds {
    ($($(#[$doc:meta])+ $kind:ident = $words:literal [$($test:ident),+],)+) => {
        /// A kind of fault.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub enum Kind {
            $($(#[$doc])+ $kind,)+
        }

        impl Kind {
            /// All of them.
            pub const ALL: &'static [Self] = &[$(Self::$kind),+];

            /// Its name.
            #[must_use]
            pub const fn words(self) -> &'static str {
                match self { $(Self::$kind => $words,)+ }
            }

            /// The kind of this name.
            #[must_use]
            pub fn from_words(words: &str) -> Option<Self> {
                Self::ALL.iter().copied().find(|k| k.words() == words)
            }

            /// The tests that may name it, its own first.
            #[must_use]
            pub const fn tests(self) -> &'static [Test] {
                match self { $(Self::$kind => &[$(Test::$test),+],)+ }
            }
        }
    };
}

kinds!(
    /// One to three readings away and back.
    Spike = "spike" [Spike, Noise],
    /// A burst of noise.
    Burst = "noise" [Noise, Spike, NotConnected, OutOfInstrument, Impossible],
    /// A plug that touches now and then.
    LoosePlug = "loose plug" [Noise, Spike, NotConnected, OutOfInstrument, Impossible],
    /// It holds its value.
    Stuck = "stuck" [Stuck, MissesRain],
    /// A lasting jump.
    Step = "step" [Step, RiseWithoutWater, PairApart],
    /// Exact zeros.
    Zeros = "zeros" [NotConnected, OutOfInstrument, Impossible, Stuck],
    /// A logger's mark for no reading.
    Sentinel = "mark for no reading" [NotConnected, OutOfInstrument],
    /// Beyond the instrument.
    Beyond = "beyond the instrument" [OutOfInstrument, Impossible, NotConnected, Spike, Noise],
    /// Water content below zero.
    BelowZero = "below zero" [Impossible, OutOfInstrument],
    /// Water content above the pores.
    AbovePores = "above the pores" [Impossible, OutOfInstrument],
    /// A silence of the node.
    NodeSilent = "node silent" [Gap],
    /// A silence of one channel.
    ChannelSilent = "channel silent" [Gap],
    /// Readings that came again with other values.
    Repeats = "came twice" [Repeated, Clock],
    /// The clock was set back.
    ClockBack = "clock set back" [Clock, Repeated],
    /// The clock drifts.
    ClockDrift = "clock drifts" [Clock],
    /// Wetting out of a blue sky.
    RisesDry = "rises without water" [RiseWithoutWater, Step],
    /// A probe that sleeps through rain.
    Deaf = "misses the rain" [MissesRain, Stuck],
    /// Water down the cable.
    Bypass = "wets out of order" [WetsOutOfOrder],
    /// Temperature in water content.
    Wiggle = "daily wiggle" [DailyWiggle],
    /// A depth that is noted wrongly.
    WrongDepth = "wrong depth" [HeatMisorder, SwappedPorts, WetsOutOfOrder],
    /// Two ports exchanged for a while.
    Exchange = "ports exchanged" [SwappedPorts, HeatMisorder],
    /// A twin that drifts.
    TwinDrifts = "twin drifts" [PairApart],
    /// A shield that is gone.
    Sunlit = "sunlit air" [SunlitAir],
    /// The supply runs down.
    LowPower = "low power" [LowPower],
    /// Water in the box.
    WetBox = "wet box" [WetBox],
    /// A backlog that comes later.
    Late = "late" [Late],
);
