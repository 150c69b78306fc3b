//! Blocks that were opened lately: a page that shows some files of one artifact asks for the same few again and again.

use std::collections::{HashMap, VecDeque};
use std::sync::Arc;

/// A pack's number, and a block's place in it.
pub(super) type At = (i64, u32);

/// How many blocks are kept.
const MOST: usize = 32;

/// A cache of whole blocks; the one that came first leaves first.
#[derive(Default)]
pub(super) struct Opened {
    blocks: HashMap<At, Arc<Vec<u8>>>,
    order: VecDeque<At>,
}

impl Opened {
    /// A block that was unpacked lately.
    pub(super) fn get(&self, at: At) -> Option<Arc<Vec<u8>>> {
        self.blocks.get(&at).cloned()
    }

    /// Keeps an unpacked block; the oldest goes when there are too many.
    pub(super) fn keep(&mut self, at: At, block: Arc<Vec<u8>>) {
        if self.blocks.insert(at, block).is_none() {
            self.order.push_back(at);
        }
        if self.order.len() > MOST
            && let Some(oldest) = self.order.pop_front()
        {
            self.blocks.remove(&oldest);
        }
    }
}
