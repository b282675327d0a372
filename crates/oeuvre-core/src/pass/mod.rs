//! One pass over the rows, for everybody who wants some of them.
//!
//! The driver opens the readers, gives each batch to all *consumers*, puts errors in the order of the rows, and
//! merges what the workers have kept. A consumer says which columns it wants, and makes for each worker a *share*
//! that takes batches in; shares are merged in any order, so that no result depends on who saw which rows. The
//! batches of a consumer that is alone are those of the reader; with several, columns that others want too are
//! copied.
//!
//! To add something that is made of rows, implement [`Consumer`] and [`Share`]: groups, listings and traces are
//! such. Several tables in one pass:
//!
//! ```
//! # use oeuvre_columns::{InMemory, Kind, Source};
//! # let rows = InMemory::from_texts(
//! #     &[("route", Kind::Text), ("fare", Kind::Number { scale: 2 })],
//! #     &[&["SKE", "12.50"], &["KEL", "8.00"], &["SKE", "7.00"]],
//! # )?;
//! use oeuvre_core::{Plan, Request, run_all};
//!
//! let total = Plan::new(&Request::of(&[], &["sum(fare)"]), rows.columns())?;
//! let routes = Plan::new(&Request::of(&["route"], &["count()"]), rows.columns())?;
//! let tables = run_all(&[&total, &routes], &rows, 2)?;
//! assert_eq!(tables[0].0.cell(0, 0).to_string(), "27.50");
//! assert_eq!(tables[1].0.cell(1, 0).to_string(), "2");
//! # Ok::<(), oeuvre_core::Error>(())
//! ```

mod rows;

pub(crate) use rows::{RowWork, Selected, note_zero_divisions};

use crate::error::Error;
use crate::plan::Plan;
use crate::rows::evaluator::are_unlike;
use oeuvre_columns::column::{Batch, Column, Met};
use oeuvre_columns::{Account, Bounds, Limits, Reader, Source};
use rows::{Comes, can_share_rows, comes, condition_of};
use std::collections::HashMap;

/// Who wants the rows of a pass.
pub(crate) trait Consumer: Sync {
    /// What a worker keeps of the rows that it sees.
    type Share: Share;

    /// The columns that it wants, by their place in the source; its batches have them in this order.
    fn columns(&self) -> &[usize];

    /// Which rows it can want at all; no ranges where it wants all.
    fn limits(&self) -> Limits {
        Limits::default()
    }

    /// The plan by whose condition it chooses rows, if that is all that it chooses them by.
    fn chooses_by(&self) -> Option<&Plan> {
        None
    }

    /// For each of its columns whether it follows texts by their dictionary, and remembers no codes from batch to batch: then
    /// the texts may be begun anew. None where it says nothing.
    fn follows_texts(&self) -> Vec<bool> {
        Vec::new()
    }

    /// A share that has seen no rows yet.
    fn share(&self) -> Self::Share;

    /// Takes a batch into a share, which may change it as it likes.
    ///
    /// # Errors
    /// What cannot be held.
    fn take(&self, share: &mut Self::Share, batch: &mut Batch) -> Result<(), Error>;

    /// A worker has seen all its rows; the batch is empty, but its columns know all their texts.
    ///
    /// # Errors
    /// What cannot be held.
    fn finish(&self, share: &mut Self::Share, batch: &Batch) -> Result<(), Error> {
        let _ = (share, batch);
        Ok(())
    }
}

/// What a worker keeps for a consumer.
pub(crate) trait Share: Send {
    /// Takes in what another worker has kept, with so many threads.
    ///
    /// # Errors
    /// What cannot be held.
    fn absorb(&mut self, other: Self, threads: usize) -> Result<(), Error>;
}

/// What a pass has made for one consumer.
pub(crate) struct Done<S> {
    /// What all workers have kept.
    pub(crate) share: S,
    /// What the readers passed over.
    pub(crate) account: Account,
}

/// A pass to be made.
pub(crate) struct Pass<'a> {
    /// The rows.
    pub(crate) source: &'a dyn Source,
    /// How many threads.
    pub(crate) threads: usize,
    /// Told of rows as they are read.
    pub(crate) progress: Option<&'a (dyn Fn(u64) + Sync)>,
}

impl<'a> Pass<'a> {
    /// A pass without anybody watching.
    pub(crate) fn over(source: &'a dyn Source, threads: usize) -> Pass<'a> {
        Pass { source, threads: threads.max(1), progress: None }
    }

    /// Makes the pass for one consumer.
    pub(crate) fn serve<C: Consumer>(&self, consumer: &C) -> Result<Done<C::Share>, Error> {
        match self.serve_all(std::slice::from_ref(consumer))?.pop() {
            Some(done) => Ok(done),
            None => unreachable!("there is one consumer"),
        }
    }

    /// Makes the pass for several consumers at once: what each gets is what it would get alone.
    ///
    /// # Errors
    /// Of all problems the first in the order of the rows, whatever the number of threads.
    pub(crate) fn serve_all<C: Consumer>(
        &self,
        consumers: &[C],
    ) -> Result<Vec<Done<C::Share>>, Error> {
        let hand_out = HandOut::new(consumers);
        let bounds = Bounds { of: consumers.iter().map(Consumer::limits).collect() };
        let readers = self.source.scan_within(&hand_out.columns, self.threads, &bounds)?;
        let work = |mut reader: Box<dyn Reader + '_>| {
            let mut shares: Vec<C::Share> = consumers.iter().map(Consumer::share).collect();
            let done = self.read(&hand_out, consumers, reader.as_mut(), &mut shares);
            (done.map(|()| shares), reader.piece(), reader.account())
        };
        let results: Vec<_> = if readers.len() == 1 {
            readers.into_iter().map(work).collect()
        } else {
            std::thread::scope(|scope| {
                let work = &work;
                let handles: Vec<_> =
                    readers.into_iter().map(|reader| scope.spawn(move || work(reader))).collect();
                handles
                    .into_iter()
                    .map(|h| h.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)))
                    .collect()
            })
        };
        // Of several problems, the first in the order of the rows is the one to tell: pieces before it have
        // all been taken, so that it is the same one whatever the number of threads.
        let mut account = Account::default();
        let mut workers = Vec::new();
        let mut problem: Option<(u64, Error)> = None;
        for (done, piece, reader_account) in results {
            account.add(reader_account);
            match done {
                Ok(shares) => workers.push(shares),
                Err(error) if problem.as_ref().is_none_or(|p| piece < p.0) => {
                    problem = Some((piece, error));
                }
                Err(_) => {}
            }
        }
        // What was read of rows that have changed means nothing, a problem neither.
        self.source.ensure_unchanged()?;
        if let Some((_, error)) = problem {
            return Err(error);
        }
        let mut workers = workers.into_iter();
        let mut merged =
            workers.next().ok_or_else(|| Error::request("there is nothing to read"))?;
        for shares in workers {
            for (mine, theirs) in merged.iter_mut().zip(shares) {
                mine.absorb(theirs, self.threads)?;
            }
        }
        Ok(merged.into_iter().map(|share| Done { share, account }).collect())
    }

    /// Reads all batches that a reader gives.
    fn read<C: Consumer>(
        &self,
        hand_out: &HandOut,
        consumers: &[C],
        reader: &mut dyn Reader,
        shares: &mut [C::Share],
    ) -> Result<(), Error> {
        let mut batch = Batch::default();
        let mut own: Vec<Batch> = vec![Batch::default(); consumers.len()];
        let mut met = vec![Met::default(); consumers.len()];
        let mut since = vec![0; hand_out.columns.len()];
        while reader.next(&mut batch)? {
            if let Some(progress) = self.progress {
                progress(batch.rows as u64);
            }
            met.iter_mut().for_each(|met| met.known = false);
            for (i, (consumer, share)) in consumers.iter().zip(shares.iter_mut()).enumerate() {
                std::mem::swap(&mut own[i].met, &mut met[hand_out.met[i]]);
                let of_rows = &own[i].met;
                let plan = consumer.chooses_by().filter(|_| of_rows.known);
                let how = |input| plan.map_or(Comes::Whole, |plan| comes(plan, input, of_rows));
                let how: Vec<Comes> = (0..consumer.columns().len()).map(how).collect();
                hand_out.lend(i, &mut batch, &mut own[i], &how);
                let taken = consumer.take(share, &mut own[i]);
                hand_out.give_back(i, &mut batch, &mut own[i], &how);
                std::mem::swap(&mut own[i].met, &mut met[hand_out.met[i]]);
                taken?;
            }
            for &place in &hand_out.followed {
                since[place] += batch.rows as u64;
                let column = &mut batch.columns[place];
                if are_unlike(column.dictionary.len(), since[place])
                    && reader.begin_texts_anew(column)
                {
                    since[place] = 0;
                }
            }
        }
        // A reader without a row has not made its columns.
        batch.columns.resize_with(hand_out.columns.len(), Column::default);
        batch.rows = 0;
        for (i, (consumer, share)) in consumers.iter().zip(shares.iter_mut()).enumerate() {
            let whole = vec![Comes::Whole; consumer.columns().len()];
            hand_out.lend(i, &mut batch, &mut own[i], &whole);
            consumer.finish(share, &own[i])?;
            hand_out.give_back(i, &mut batch, &mut own[i], &whole);
        }
        Ok(())
    }
}

/// Which columns of a batch go to which consumer.
struct HandOut {
    /// The columns that any of them wants.
    columns: Vec<usize>,
    /// For each consumer the places of its columns among these, and whether it is the last to want them: then
    /// it gets them, else a copy of their values.
    of: Vec<Vec<(usize, bool)>>,
    /// For each consumer the first one that has the same condition: these share the rows that meet it.
    met: Vec<usize>,
    /// The places of columns whose texts all who want them follow.
    followed: Vec<usize>,
}

impl HandOut {
    fn new<C: Consumer>(consumers: &[C]) -> HandOut {
        let mut columns: Vec<usize> = Vec::new();
        let mut of: Vec<Vec<(usize, bool)>> = Vec::new();
        let mut places = HashMap::new();
        for consumer in consumers {
            let place = |&column: &usize| {
                let place = *places.entry(column).or_insert_with(|| {
                    columns.push(column);
                    columns.len() - 1
                });
                (place, false)
            };
            of.push(consumer.columns().iter().map(place).collect());
        }
        let mut wanted = vec![false; columns.len()];
        for (place, last) in of.iter_mut().rev().flat_map(|list| list.iter_mut().rev()) {
            *last = !std::mem::replace(&mut wanted[*place], true);
        }
        let mut is_followed = vec![true; columns.len()];
        for (consumer, of) in consumers.iter().zip(&of) {
            let follows = consumer.follows_texts();
            for (i, (place, _)) in of.iter().enumerate() {
                is_followed[*place] &= follows.get(i).copied().unwrap_or(false);
            }
        }
        let followed = (0..columns.len()).filter(|&place| is_followed[place]).collect();
        HandOut { columns, of, met: same_conditions(consumers), followed }
    }

    /// Lends a consumer its columns, each as it is to come.
    fn lend(&self, consumer: usize, from: &mut Batch, to: &mut Batch, comes: &[Comes]) {
        (to.rows, to.piece) = (from.rows, from.piece);
        to.columns.resize_with(self.of[consumer].len(), Column::default);
        let columns = to.columns.iter_mut().zip(&self.of[consumer]).zip(comes);
        for ((column, &(place, last)), &comes) in columns {
            let of_reader = &mut from.columns[place];
            if last && comes != Comes::Cut {
                std::mem::swap(column, of_reader);
                continue;
            }
            column.marks.clone_from(&of_reader.marks);
            match comes {
                Comes::Whole => column.data.clone_from(&of_reader.data),
                Comes::Cut => {
                    column.data.copy_chosen(&of_reader.data, &to.met.rows);
                    column.marks.keep_chosen(&to.met.rows);
                }
                Comes::Unseen => column.data.truncate(0),
            }
            std::mem::swap(&mut column.dictionary, &mut of_reader.dictionary);
        }
    }

    fn give_back(&self, consumer: usize, to: &mut Batch, from: &mut Batch, came: &[Comes]) {
        let columns = from.columns.iter_mut().zip(&self.of[consumer]).zip(came);
        for ((column, &(place, last)), &came) in columns {
            let of_reader = &mut to.columns[place];
            if last && came != Comes::Cut {
                std::mem::swap(column, of_reader);
            } else {
                std::mem::swap(&mut column.dictionary, &mut of_reader.dictionary);
            }
        }
    }
}

/// For each consumer the first one that has the same condition: itself where there is none.
fn same_conditions<C: Consumer>(consumers: &[C]) -> Vec<usize> {
    let mut firsts = HashMap::new();
    let first_of = |(i, consumer): (usize, &C)| {
        let plan = consumer.chooses_by().filter(|plan| can_share_rows(plan));
        plan.map_or(i, |plan| *firsts.entry(condition_of(plan)).or_insert(i))
    };
    consumers.iter().enumerate().map(first_of).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::rows;
    use std::sync::atomic::{AtomicU64, Ordering};

    /// Wants some columns, and adds each up; what it is lent it may change.
    struct Adds(Vec<usize>);

    impl Share for Vec<i128> {
        fn absorb(&mut self, other: Vec<i128>, _: usize) -> Result<(), Error> {
            self.iter_mut().zip(other).for_each(|(mine, theirs)| *mine += theirs);
            Ok(())
        }
    }

    impl Consumer for Adds {
        type Share = Vec<i128>;

        fn columns(&self) -> &[usize] {
            &self.0
        }
        fn share(&self) -> Vec<i128> {
            vec![0; self.0.len()]
        }
        fn take(&self, share: &mut Vec<i128>, batch: &mut Batch) -> Result<(), Error> {
            for (sum, column) in share.iter_mut().zip(&mut batch.columns) {
                *sum += column.data.to_i128().iter().sum::<i128>();
                column.data.retain(&[]);
            }
            Ok(())
        }
    }

    #[test]
    fn whoever_waits_is_told_of_all_rows() {
        let rows = rows("x:0\n1\n2\n3\n").in_batches(2);
        let seen = AtomicU64::new(0);
        let progress = |n: u64| {
            seen.fetch_add(n, Ordering::Relaxed);
        };
        let pass = Pass { progress: Some(&progress), ..Pass::over(&rows, 0) };
        assert_eq!((pass.threads, pass.serve(&Adds(vec![0])).unwrap().share), (1, vec![6]));
        assert_eq!(seen.into_inner(), 3);
    }

    #[test]
    fn consumers_get_their_columns_in_their_order_whoever_else_wants_them() {
        let rows = rows("a:0 b:0 c:0\n1|20|300\n4|50|600\n").in_batches(1);
        let wanted = [vec![2, 0], vec![0, 2], vec![], vec![1], vec![1, 2, 0]];
        let consumers = wanted.map(Adds);
        let hand_out = HandOut::new(&consumers);
        assert_eq!(hand_out.columns, [2, 0, 1]);
        // Each column goes to the last that wants it; the others copy.
        let lasts: Vec<usize> =
            hand_out.of.iter().map(|of| of.iter().filter(|c| c.1).count()).collect();
        assert_eq!(lasts, [0, 0, 0, 0, 3]);
        let done = Pass::over(&rows, 2).serve_all(&consumers).unwrap();
        let sums: Vec<Vec<i128>> = done.into_iter().map(|d| d.share).collect();
        assert_eq!(sums, [vec![900, 5], vec![5, 900], vec![], vec![70], vec![70, 900, 5]]);
    }
}
