//! What was made lately and is given again: as long as its stamp stands, and some seconds longer while readings stream in.

use super::errors::{Problem, beside};
use crate::state::State;
use actix_web::web;
use ebrel_app::stamped::Stamped;
use std::hash::Hash;
use std::sync::Arc;

/// The answer to what is asked: the one that was made at this stamp, if one is given; while readings stream in the one of some seconds ago,
/// made anew beside; else it is made now.
pub async fn lately<K, V, F>(
    state: &web::Data<State>,
    of: fn(&State) -> &Stamped<K, V>,
    (asked, stamp): (K, Option<String>),
    make: impl FnOnce(web::Data<State>) -> F + 'static,
) -> Result<Arc<V>, Problem>
where
    K: Hash + Eq + 'static,
    V: 'static,
    F: Future<Output = Result<V, Problem>>,
{
    if let Some(known) = stamp.as_deref().and_then(|stamp| of(state).get(&asked, stamp)) {
        return Ok(known);
    }
    let earlier = state.intake.is_busy().then(|| of(state).earlier(&asked)).flatten();
    let own = state.clone();
    let made = async move {
        let made = Arc::new(make(own.clone()).await?);
        of(&own).put(asked, stamp.unwrap_or_default(), Arc::clone(&made));
        Ok::<_, Problem>(made)
    };
    match earlier {
        None => made.await,
        Some(earlier) => {
            if earlier.renew {
                beside(async move { made.await.map(drop) });
            }
            Ok(earlier.answer)
        }
    }
}
