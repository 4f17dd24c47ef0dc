//! In which order the points of a round are walked.

use super::site::metres_from;
use crate::quality::Place;

/// How often a walk is gone through for a shorter one at most.
const PASSES: usize = 60;
/// What is not worth a detour, m.
const WORTH_M: f64 = 0.01;

/// The order of points on a walk from a start: the nearest next, then stretches turned round as long as that shortens the walk
/// (2-opt, Croes 1958, Operations Research 6:791). It ends at its last point. A good walk, not surely the shortest.
///
/// ```
/// use ebrel_core::field::walking_order;
/// use ebrel_core::quality::Place;
/// let at = |east: f64| Place { latitude: 0.0, longitude: east * 1e-5 };
/// assert_eq!(walking_order(at(0.0), &[at(30.0), at(10.0), at(40.0), at(20.0)]), [1, 3, 0, 2]);
/// ```
#[must_use]
pub fn walking_order(from: Place, points: &[Place]) -> Vec<usize> {
    let flat: Vec<(f64, f64)> = points.iter().map(|p| metres_from(from, *p)).collect();
    let mut walk = nearest_next(&flat);
    for _ in 0..PASSES {
        if !shortened(&mut walk, &flat) {
            break;
        }
    }
    walk
}

fn apart(a: (f64, f64), b: (f64, f64)) -> f64 {
    (a.0 - b.0).hypot(a.1 - b.1)
}

fn nearest_next(points: &[(f64, f64)]) -> Vec<usize> {
    let mut left: Vec<usize> = (0..points.len()).collect();
    let (mut walk, mut here) = (Vec::with_capacity(points.len()), (0.0, 0.0));
    // The first of equally near ones, so that points of one place keep their order.
    while let Some(next) =
        (0..left.len()).min_by(|a, b| apart(here, points[left[*a]]).total_cmp(&apart(here, points[left[*b]])))
    {
        let point = left.remove(next);
        here = points[point];
        walk.push(point);
    }
    walk
}

/// Turns each stretch round that makes the walk shorter; whether one did.
fn shortened(walk: &mut [usize], points: &[(f64, f64)]) -> bool {
    let mut any = false;
    for first in 0..walk.len() {
        for last in first + 1..walk.len() {
            let before = if first == 0 { (0.0, 0.0) } else { points[walk[first - 1]] };
            let (a, b) = (points[walk[first]], points[walk[last]]);
            let after = walk.get(last + 1).map(|p| points[*p]);
            let now = apart(before, a) + after.map_or(0.0, |after| apart(b, after));
            let turned = apart(before, b) + after.map_or(0.0, |after| apart(a, after));
            if turned < now - WORTH_M {
                walk[first..=last].reverse();
                any = true;
            }
        }
    }
    any
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const HUT: Place = Place { latitude: 46.9, longitude: -3.2 };

    fn at((east, north): (f64, f64)) -> Place {
        Place { latitude: HUT.latitude + north * 9e-6, longitude: HUT.longitude + east * 1.3e-5 }
    }

    fn length(walk: &[usize], points: &[Place]) -> f64 {
        let mut here = (0.0, 0.0);
        let mut sum = 0.0;
        for p in walk {
            let next = metres_from(HUT, points[*p]);
            sum += apart(here, next);
            here = next;
        }
        sum
    }

    #[test]
    fn two_rows_are_walked_up_and_down() {
        let rows: Vec<Place> =
            (0..6).flat_map(|i| [(2.0 + f64::from(i), 0.0), (2.0 + f64::from(i), 3.0)]).map(at).collect();
        let walk = walking_order(HUT, &rows);
        assert!(length(&walk, &rows) < 16.5, "{walk:?} is {} m", length(&walk, &rows));
        assert!(walking_order(HUT, &[]).is_empty());
        assert_eq!(walking_order(HUT, &[at((1.0, 1.0)); 4]), [0, 1, 2, 3], "one place: as they were given");
    }

    proptest! {
        /// Every point is walked to once, and never by a longer way than by the nearest next.
        #[test]
        fn a_walk_leaves_none_out(points in prop::collection::vec((-300.0..300.0f64, -300.0..300.0f64), 0..40)) {
            let flat: Vec<(f64, f64)> = points.iter().map(|p| metres_from(HUT, at(*p))).collect();
            let points: Vec<Place> = points.into_iter().map(at).collect();
            let walk = walking_order(HUT, &points);
            let mut all = walk.clone();
            all.sort_unstable();
            prop_assert_eq!(all, (0..points.len()).collect::<Vec<_>>());
            prop_assert!(length(&walk, &points) <= length(&nearest_next(&flat), &points) + 1e-6);
        }
    }
}
