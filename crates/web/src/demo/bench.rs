//! The demo's other sheets of the bench: a thermometer with a constant bias, and a batch with an odd one out.

use ebrel_core::units::UnixSeconds;
use ebrel_store::register::BenchSheet;
use ebrel_store::{Store, StoreError};
use serde_json::{Value, json};

/// Puts the sheets in.
///
/// # Errors
/// [`StoreError`] if the database refuses.
pub async fn seed(store: &Store, study_id: i64, at: i64) -> Result<(), StoreError> {
    for (kind, draft) in [("temperature", thermometer()), ("batch", batch())] {
        let title = draft["title"].as_str().unwrap_or_default().to_owned();
        let made_at = UnixSeconds(at);
        let sheet = BenchSheet { id: 0, study_id, kind: kind.into(), title, made_at, draft: draft.to_string() };
        store.add_sheet(&sheet).await?;
    }
    Ok(())
}

/// Reads 0.6 K warm in ice, at room temperature and in the bath: a constant that the evidence carries.
fn thermometer() -> Value {
    let pair =
        |medium: &str, probe: &str, reference: f64| json!({"medium": medium, "probe": probe, "reference": reference});
    json!({
        "title": "DT-0212 before it went back to the shelf", "serial": "DT-0212", "signal": "degC", "claim_probe": 0.3,
        "pairs": [
            pair("stirred ice bath", "0.63 0.62 0.62", 0.0), pair("cool bath", "10.71", 10.1),
            pair("room", "20.69 20.70 20.69", 20.1), pair("warm bath", "30.82", 30.2), pair("warm bath", "35.19", 34.6)
        ]
    })
}

fn batch() -> Value {
    json!({
        "title": "Blades of spring 2024, side by side", "medium": "moist sand, well mixed", "unit": "mV", "tolerance": 20,
        "list": "BD-0417; 902.4 902.1\nBD-0418; 896.8\nBD-0419; 955.3\nBD-0420; 911.0\nBD-0421; 905.2\nBD-0422; 899.6"
    })
}
