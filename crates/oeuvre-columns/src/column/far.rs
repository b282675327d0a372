//! Taking many values of a long list, or giving it many, in an order of their own.
//!
//! Whoever goes through a long list at random waits for memory at each step, and for a disk where memory is short. So
//! many places are first brought into about the order of the list, a block of them at a time: then each page of the list
//! is looked at once a block, and the values go to places that a cache holds.
//!
//! ```
//! use oeuvre_columns::column::far::gathered;
//!
//! assert_eq!(gathered(&[10, 20, 30], &[2, 0, 9], -1), [30, 10, -1]);
//! ```

/// Lists of so many bytes are far: no cache holds them.
#[cfg(not(test))]
const FAR: usize = 16 << 20;
#[cfg(test)]
const FAR: usize = 256;
/// So many places at least are brought into order at once: their values take a few megabytes.
#[cfg(not(test))]
const BLOCK: usize = 1 << 20;
#[cfg(test)]
const BLOCK: usize = 16;
/// A list is gone through at most so many times.
const SWEEPS: usize = 16;
/// Into so many stretches of the list.
const STRETCHES: usize = 1 << 11;

/// The values of a list at some places, and `none` for places that it does not have.
pub fn gathered<T: Copy>(of: &[T], places: &[u32], none: T) -> Vec<T> {
    let one = |&place: &u32| of.get(place as usize).copied().unwrap_or(none);
    if size_of_val(of) < FAR || places.len() <= BLOCK {
        return places.iter().map(one).collect();
    }
    let mut out = Vec::with_capacity(places.len());
    let (mut block, mut ordered) = (Vec::new(), Vec::new());
    for places in places.chunks(BLOCK.max(places.len().div_ceil(SWEEPS))) {
        block.clear();
        block.extend(places.iter().copied().zip(0u32..));
        along(of.len(), &block, &mut ordered);
        let begin = out.len();
        out.resize(begin + block.len(), none);
        let out = &mut out[begin..];
        ordered.iter().for_each(|(place, at)| out[*at as usize] = one(place));
    }
    out
}

/// Places with what belongs to them in about the order of a list of so many values; what belongs to places of one stretch
/// stays in its order.
fn along<T: Copy>(len: usize, block: &[(u32, T)], ordered: &mut Vec<(u32, T)>) {
    let Some(&first) = block.first() else { return ordered.clear() };
    let stretch = len.div_ceil(STRETCHES);
    let stretch_of = |place: u32| (place as usize / stretch).min(STRETCHES);
    let mut starts = vec![0u32; STRETCHES + 2];
    block.iter().for_each(|it| starts[stretch_of(it.0) + 1] += 1);
    for at in 1..starts.len() {
        starts[at] += starts[at - 1];
    }
    ordered.clear();
    ordered.resize(block.len(), first);
    for &it in block {
        let start = &mut starts[stretch_of(it.0)];
        ordered[*start as usize] = it;
        *start += 1;
    }
}

/// A long list that gets values at places in an order of their own; a later value replaces one that came before.
pub struct Scattered<T> {
    list: Vec<T>,
    /// What came last, with its place, and room to order it; none where the list is near.
    waiting: Vec<(u32, T)>,
    ordered: Vec<(u32, T)>,
    block: usize,
}

impl<T: Copy> Scattered<T> {
    /// A list of so many values, which are all the same.
    pub fn new(len: usize, value: T) -> Scattered<T> {
        let list = vec![value; len];
        let is_near = size_of_val(list.as_slice()) < FAR;
        let block = if is_near { 0 } else { BLOCK.max(len.div_ceil(SWEEPS)) };
        Scattered { list, waiting: Vec::with_capacity(block), ordered: Vec::new(), block }
    }

    /// Gives it a value at a place, which there must be.
    #[inline]
    pub fn put(&mut self, place: u32, value: T) {
        if self.block == 0 {
            self.list[place as usize] = value;
            return;
        }
        self.waiting.push((place, value));
        if self.waiting.len() >= self.block {
            self.settle();
        }
    }

    fn settle(&mut self) {
        along(self.list.len(), &self.waiting, &mut self.ordered);
        self.waiting.clear();
        self.ordered.iter().for_each(|&(place, value)| self.list[place as usize] = value);
    }

    /// The list.
    pub fn finish(mut self) -> Vec<T> {
        self.settle();
        self.list
    }
}

/// Whether so many values of a list are better taken at once than now and then some.
pub fn are_many(places: usize) -> bool {
    places > BLOCK
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn values_are_those_at_their_places(
            of in proptest::collection::vec(any::<i64>(), 0..90),
            places in proptest::collection::vec(prop_oneof![0u32..95, Just(u32::MAX)], 0..90),
        ) {
            let plain: Vec<i64> =
                places.iter().map(|&p| of.get(p as usize).copied().unwrap_or(-1)).collect();
            prop_assert_eq!(gathered(&of, &places, -1), plain);
            let (mut plain, mut scattered) = (of.clone(), Scattered::new(of.len(), 0));
            of.iter().zip(0..).for_each(|(&value, place)| scattered.put(place, value));
            for (&place, value) in places.iter().filter(|p| (**p as usize) < of.len()).zip(0..) {
                plain[place as usize] = value;
                scattered.put(place, value);
            }
            prop_assert_eq!(scattered.finish(), plain);
        }
    }
}
