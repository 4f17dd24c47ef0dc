//! Who said where a probe lies, and who corrected that.

use crate::{Store, StoreError, Unit};
use ebrel_core::units::UnixSeconds;

/// What somebody did to a placement.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum HandDeed {
    /// Said that the probe lies there.
    Placed,
    /// Corrected what was said.
    Corrected,
    /// Ended it, by an entry of a log.
    Ended,
}

impl HandDeed {
    const ALL: [Self; 3] = [Self::Placed, Self::Corrected, Self::Ended];

    /// Its code in the database.
    #[must_use]
    pub const fn code(self) -> &'static str {
        match self {
            Self::Placed => "placed",
            Self::Corrected => "corrected",
            Self::Ended => "ended",
        }
    }
}

/// What one person did to a placement.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Hand {
    /// What they did.
    pub deed: HandDeed,
    /// Name or initials of the person.
    pub by: String,
    /// Moment of it, seconds of UTC.
    pub at: UnixSeconds,
}

impl Store {
    /// Who placed, corrected and ended a placement, in order of time; nothing for one from before that was kept.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn hands(&self, placement: i64) -> Result<Vec<Hand>, StoreError> {
        let rows = sqlx::query!(
            r#"SELECT what AS "what!: String", made_by AS "by!: String", made_at AS "at!: i64" FROM placement_hand WHERE placement_id = ?1
               UNION ALL
               SELECT 'placed', e.made_by, e.at FROM placement p JOIN field_entry e ON e.id = p.entry WHERE p.id = ?1
               UNION ALL
               SELECT 'ended', e.made_by, e.at FROM placement p JOIN field_entry e ON e.id = p.ended_by WHERE p.id = ?1
               ORDER BY 3"#,
            placement
        );
        let hand = |what: &str, by, at| {
            let deed = HandDeed::ALL.into_iter().find(|d| d.code() == what)?;
            Some(Hand { deed, by, at: UnixSeconds(at) })
        };
        Ok(rows.fetch_all(&self.pool).await?.into_iter().filter_map(|r| hand(&r.what, r.by, r.at)).collect())
    }

    /// Keeps who did what to a placement.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn note_hand(&self, placement: i64, hand: &Hand) -> Result<(), StoreError> {
        let mut unit = self.unit().await?;
        unit.note_hand(placement, hand).await?;
        unit.commit().await
    }
}

impl Unit {
    /// As [`Store::note_hand`].
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn note_hand(&mut self, placement: i64, hand: &Hand) -> Result<(), StoreError> {
        let (what, at) = (hand.deed.code(), hand.at.0);
        sqlx::query!(
            "INSERT INTO placement_hand (placement_id, what, made_by, made_at) VALUES (?, ?, ?, ?)",
            placement,
            what,
            hand.by,
            at
        )
        .execute(self.connection())
        .await?;
        Ok(())
    }
}
