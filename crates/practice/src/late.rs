//! Answers that are made and held back: for a time, or until they are let go.

use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;
use tokio::sync::Notify;

/// The answers of one forge that are held back.
#[derive(Debug, Default)]
pub(crate) struct Late {
    held: AtomicUsize,
    go_on: Notify,
}

/// One that is held; it counts until it goes, also where who asked hangs up.
struct Held<'a>(&'a Late);

impl Drop for Held<'_> {
    fn drop(&mut self) {
        self.0.held.fetch_sub(1, Ordering::SeqCst);
    }
}

impl Late {
    pub(crate) fn count(&self) -> usize {
        self.held.load(Ordering::SeqCst)
    }

    /// Lets those go that are counted now.
    pub(crate) fn go_on(&self) {
        self.go_on.notify_waiters();
    }

    pub(crate) async fn hold(&self, at_most: Duration) {
        // Whoever counts this one can let it go.
        let go_on = self.go_on.notified();
        self.held.fetch_add(1, Ordering::SeqCst);
        let _held = Held(self);
        let _ = tokio::time::timeout(at_most, go_on).await;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::Arc;

    #[tokio::test]
    async fn an_answer_is_held_until_it_is_let_go() {
        let late = Arc::new(Late::default());
        let holds = tokio::spawn({
            let late = late.clone();
            async move { late.hold(Duration::MAX).await }
        });
        while late.count() == 0 {
            tokio::task::yield_now().await;
        }
        assert!(!holds.is_finished());
        late.go_on();
        holds.await.expect("it ends");
        assert_eq!(late.count(), 0);
        late.hold(Duration::from_millis(1)).await;
        assert_eq!(late.count(), 0, "one that nobody lets go is sent in its time");
    }
}
