//! Blocks that another thread fills: rows that come from a database while others are read.
//!
//! The thread that asks the database is what everybody waits for, so it does nothing else; a few blocks are on
//! their way at a time, and go back to it when they are read, so that memory does not grow with the rows.

use super::{Block, Blocks, Taken, cell_among};
use oeuvre_columns::{DataProblem, ReadError};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Arc, Mutex, PoisonError};

/// So many blocks are on their way.
const BLOCKS: usize = 8;

enum Message {
    Block(Block),
    /// The rows end; so many others were left out unseen.
    Ended(u64),
    Failed(ReadError),
}

/// Where the thread that asks the database puts rows.
pub(crate) struct Filling {
    filled: SyncSender<Message>,
    empty: Receiver<Block>,
    made: usize,
    width: usize,
}

impl Filling {
    /// A block without rows; `None` when nobody wants any more.
    pub(crate) fn block(&mut self) -> Option<Block> {
        let given = self.empty.try_recv().ok();
        let mut block = match given {
            Some(block) => block,
            None if self.made < BLOCKS => {
                self.made += 1;
                Block::new(self.width)
            }
            None => self.empty.recv().ok()?,
        };
        block.clear();
        Some(block)
    }

    /// Passes a block on; whether anybody wants more.
    pub(crate) fn pass_on(&mut self, mut block: Block) -> bool {
        block.finish();
        self.filled.send(Message::Block(block)).is_ok()
    }
}

/// The blocks of a pass, as they come.
pub(crate) struct Channel {
    coming: Mutex<Coming>,
    back: Mutex<SyncSender<Block>>,
    /// The places of the columns that are read, ascending.
    places: Vec<usize>,
    unseen: AtomicU64,
    stopped: AtomicBool,
}

struct Coming {
    messages: Receiver<Message>,
    given: u64,
    ended: bool,
}

impl Channel {
    /// Starts a thread that fills blocks of the columns at these places: what it gives back at the end is how many
    /// rows were left out unseen.
    pub(crate) fn start(
        places: Vec<usize>,
        fill: impl FnOnce(&mut Filling) -> Result<u64, ReadError> + Send + 'static,
    ) -> Channel {
        let (filled, messages) = sync_channel(BLOCKS);
        let (back, empty) = sync_channel(BLOCKS);
        let mut filling = Filling { filled, empty, made: 0, width: places.len() };
        std::thread::spawn(move || {
            let end = match fill(&mut filling) {
                Ok(unseen) => Message::Ended(unseen),
                Err(error) => Message::Failed(error),
            };
            // Nobody may want it any more.
            let _ = filling.filled.send(end);
        });
        Channel {
            coming: Mutex::new(Coming { messages, given: 0, ended: false }),
            back: Mutex::new(back),
            places,
            unseen: AtomicU64::new(0),
            stopped: AtomicBool::new(false),
        }
    }
}

impl<'a> Blocks<'a> for Arc<Channel> {
    fn take(&mut self) -> Result<Option<(u64, Taken<'a>)>, ReadError> {
        let mut coming = self.coming.lock().unwrap_or_else(PoisonError::into_inner);
        if coming.ended || self.stopped.load(Ordering::Acquire) {
            return Ok(None);
        }
        match coming.messages.recv() {
            Ok(Message::Block(block)) => {
                coming.given += 1;
                Ok(Some((coming.given - 1, Taken::Lent(block))))
            }
            Ok(Message::Ended(unseen)) => {
                coming.ended = true;
                self.unseen.store(unseen, Ordering::Release);
                Ok(None)
            }
            Ok(Message::Failed(error)) => {
                coming.ended = true;
                Err(error)
            }
            // The thread has gone without a word.
            Err(_) => {
                coming.ended = true;
                Err(DataProblem::new("the rows broke off").help("run it again").into())
            }
        }
    }

    fn give_back(&mut self, block: Block) {
        let back = self.back.lock().unwrap_or_else(PoisonError::into_inner);
        // Whoever fills may have ended.
        let _ = back.try_send(block);
    }

    fn cell_of(&self, place: usize) -> usize {
        cell_among(&self.places, place)
    }

    fn stop(&self) {
        self.stopped.store(true, Ordering::Release);
    }

    fn unseen(&mut self) -> Result<u64, ReadError> {
        Ok(self.unseen.swap(0, Ordering::AcqRel))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Rows of one cell, their numbers, until there are so many.
    fn fill(filling: &mut Filling, rows: u64) -> u64 {
        let Some(mut block) = filling.block() else { return 0 };
        for row in 1..=rows {
            block.text().extend_from_slice(row.to_string().as_bytes());
            block.end_cell();
            if !block.end_row(row) {
                let full = block;
                let Some(next) = filling.pass_on(full).then(|| filling.block()).flatten() else {
                    return row;
                };
                block = next;
            }
        }
        filling.pass_on(block);
        rows
    }

    #[test]
    fn blocks_come_in_their_order_and_go_back() {
        let mut channel = Arc::new(Channel::start(vec![3], |filling| Ok(fill(filling, 100_000))));
        let mut row = 0;
        while let Some((_, Taken::Lent(block))) = channel.take().unwrap() {
            for at in 0..block.rows() {
                row += 1;
                assert_eq!((block.number(at), block.cell(at, 0)), (row, &*row.to_string()));
            }
            channel.give_back(block);
        }
        assert_eq!(row, 100_000);
        assert_eq!((channel.unseen().unwrap(), channel.unseen().unwrap()), (100_000, 0));
    }

    #[test]
    fn who_fills_ends_when_nobody_wants_more() {
        let (told, ended) = std::sync::mpsc::channel();
        let mut channel = Arc::new(Channel::start(vec![0], move |filling| {
            told.send(fill(filling, u64::MAX)).unwrap();
            Ok(0)
        }));
        assert!(channel.take().unwrap().is_some());
        drop(channel);
        assert!(ended.recv().unwrap() < u64::MAX);
    }

    #[test]
    fn what_goes_wrong_comes_behind_the_rows() {
        let mut channel = Arc::new(Channel::start(vec![0], |filling| {
            fill(filling, 1);
            Err(DataProblem::new("no").into())
        }));
        assert!(channel.take().unwrap().is_some());
        assert!(channel.take().is_err());
        assert!(channel.take().unwrap().is_none());
    }
}
