//! What a site is found again by: the gateway, an old oak, a boundary stone.

use crate::{Store, StoreError, Unit};
use ebrel_core::field::LandmarkKind;
use ebrel_core::quality::Place;

/// Something that stays where it is.
#[derive(Debug, Clone, PartialEq)]
pub struct Landmark {
    /// Number in the database; 0 for what is not kept yet.
    pub id: i64,
    /// What people call it.
    pub name: String,
    /// What it is.
    pub kind: LandmarkKind,
    /// Where it stands.
    pub place: Place,
    /// Whatever else helps to know it.
    pub note: String,
    /// Who entered it.
    pub by: String,
}

impl Store {
    /// Landmarks of a study, by name.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn landmarks(&self, study: i64) -> Result<Vec<Landmark>, StoreError> {
        let rows = sqlx::query!(
            "SELECT id, name, kind, latitude, longitude, note, made_by FROM landmark WHERE study_id = ? ORDER BY name",
            study
        );
        let rows = rows.fetch_all(&self.pool).await?.into_iter();
        Ok(rows
            .map(|r| Landmark {
                id: r.id,
                name: r.name,
                kind: LandmarkKind::from_code(&r.kind).unwrap_or(LandmarkKind::Landmark),
                place: Place { latitude: r.latitude, longitude: r.longitude },
                note: r.note,
                by: r.made_by,
            })
            .collect())
    }

    /// Takes a landmark of a study away; whether it was there.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn remove_landmark(&self, study: i64, id: i64) -> Result<bool, StoreError> {
        let done = sqlx::query!("DELETE FROM landmark WHERE study_id = ? AND id = ?", study, id);
        Ok(done.execute(&self.pool).await?.rows_affected() > 0)
    }
}

impl Unit {
    /// Keeps a landmark; one of the same name is corrected.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn keep_landmark(&mut self, study: i64, landmark: &Landmark) -> Result<(), StoreError> {
        let Landmark { name, kind, place, note, by, .. } = landmark;
        let kind = kind.code();
        sqlx::query!(
            "INSERT INTO landmark (study_id, name, kind, latitude, longitude, note, made_by) VALUES (?, ?, ?, ?, ?, ?, ?)
             ON CONFLICT (study_id, name) DO UPDATE SET kind = excluded.kind, latitude = excluded.latitude,
                longitude = excluded.longitude, note = excluded.note, made_by = excluded.made_by",
            study,
            name,
            kind,
            place.latitude,
            place.longitude,
            note,
            by
        )
        .execute(self.connection())
        .await?;
        Ok(())
    }

    /// Puts a station that has no plan somewhere; a planned one gets its place through its plan.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn place_station(&mut self, id: i64, place: Place, elevation_m: Option<f64>) -> Result<(), StoreError> {
        sqlx::query!(
            "UPDATE station SET latitude = ?, longitude = ?, elevation_m = coalesce(?, elevation_m) WHERE id = ?",
            place.latitude,
            place.longitude,
            elevation_m,
            id
        )
        .execute(self.connection())
        .await?;
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::database::testing::store;
    use crate::stations::testing::station;

    #[tokio::test]
    async fn a_landmark_of_a_name_is_one_and_goes_with_its_study_only() {
        let (store, _dir) = store().await;
        let id = station(&store).await;
        let study = store.station(id).await.unwrap().study_id;
        let oak = |latitude| Landmark {
            id: 0,
            name: "old oak θ".into(),
            kind: LandmarkKind::Landmark,
            place: Place { latitude, longitude: -3.2 },
            note: String::new(),
            by: "T. Quill".into(),
        };
        for latitude in [46.9, 46.91] {
            let mut unit = store.unit().await.unwrap();
            unit.keep_landmark(study, &oak(latitude)).await.unwrap();
            unit.place_station(id, oak(latitude).place, Some(210.0)).await.unwrap();
            unit.commit().await.unwrap();
        }
        let kept = store.landmarks(study).await.unwrap();
        assert_eq!(kept.iter().map(|l| l.place.latitude).collect::<Vec<_>>(), [46.91]);
        assert_eq!(store.station(id).await.unwrap().latitude, Some(46.91));
        assert!(!store.remove_landmark(study + 1, kept[0].id).await.unwrap(), "another study's hand is not on it");
        assert!(store.remove_landmark(study, kept[0].id).await.unwrap());
        let mut unit = store.unit().await.unwrap();
        assert!(unit.keep_landmark(study, &oak(91.0)).await.is_err());
    }
}
