//! What is known of the broker through which messages come: told on the page of the network.

use ebrel_core::units::UnixSeconds;

/// How it stands with the broker.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Link {
    /// It was not reached yet.
    Connecting,
    /// It is reached, and messages come.
    Connected {
        /// Moment since which it is so.
        since: UnixSeconds,
    },
    /// It cannot be reached, or refuses; the broker keeps what nodes send meanwhile.
    Lost {
        /// Moment of the first attempt that failed.
        since: UnixSeconds,
        /// Why, as the last attempt told.
        why: String,
    },
}

/// What is told of the broker.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BrokerState {
    /// Where it is, without user and password.
    pub address: String,
    /// The topic, with a `+` where the node's number stands.
    pub topic: String,
    /// How it stands.
    pub link: Link,
    /// Messages that were taken since Ebrel started.
    pub messages: u64,
    /// Readings of them that were new.
    pub new: u64,
    /// Messages that could not be taken whole; each is set aside with its reason.
    pub set_aside: u64,
    /// When the last message came.
    pub last: Option<UnixSeconds>,
    /// Why messages wait at the broker though it is reached: the disk is full, say.
    pub trouble: Option<String>,
}
