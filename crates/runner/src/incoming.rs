//! The bytes of a pack as they come: in one answer of the service, or range by range from storage.

use crate::call_error::CallError;
use crate::direct::Direct;
use bytes::Bytes;
use ordotaxis_content::MAGIC;
use ordotaxis_wire::runner::PackPiece;
use reqwest::Response;
use std::collections::VecDeque;
use tokio::task::JoinHandle;

/// A pack on its way here.
pub(crate) enum Incoming {
    Service(Response),
    Storage(Pieces),
}

impl Incoming {
    /// The next bytes; none at the end.
    pub(crate) async fn next(&mut self) -> Result<Option<Bytes>, CallError> {
        match self {
            Incoming::Service(answer) => answer.chunk().await.map_err(CallError::broke_off),
            Incoming::Storage(pieces) => {
                let got = pieces.next().await;
                if let Err(error) = &got {
                    // The same is asked for once more, of the service.
                    pieces.direct.rest(&error.to_string());
                }
                got
            }
        }
    }
}

/// Ranges of packs, one after the other. The next is asked for while one is read.
pub(crate) struct Pieces {
    direct: Direct,
    rest: VecDeque<PackPiece>,
    ahead: Option<Ahead>,
    open: Option<(Response, u64)>,
    begun: bool,
}

/// A range that was asked for. Dropping it asks no more.
struct Ahead {
    task: JoinHandle<Result<Response, CallError>>,
    length: u64,
}

impl Drop for Ahead {
    fn drop(&mut self) {
        self.task.abort();
    }
}

impl Pieces {
    pub(crate) fn new(direct: Direct, pieces: Vec<PackPiece>) -> Pieces {
        let mut new = Pieces { direct, rest: pieces.into(), ahead: None, open: None, begun: false };
        new.ask();
        new
    }

    fn ask(&mut self) {
        self.ahead = self.rest.pop_front().map(|piece| {
            let (direct, length) = (self.direct.clone(), (piece.last + 1).saturating_sub(piece.from));
            Ahead { task: tokio::spawn(async move { direct.get(&piece).await }), length }
        });
    }

    async fn next(&mut self) -> Result<Option<Bytes>, CallError> {
        if !self.begun {
            self.begun = true;
            return Ok(Some(Bytes::from_static(MAGIC)));
        }
        loop {
            if let Some((answer, left)) = &mut self.open {
                match answer.chunk().await.map_err(|error| CallError::Storage(error.without_url().to_string()))? {
                    Some(bytes) if bytes.len() as u64 > *left => return Err(CallError::Storage("it sent more than was asked for".into())),
                    Some(bytes) => {
                        *left -= bytes.len() as u64;
                        return Ok(Some(bytes));
                    }
                    None if *left > 0 => return Err(CallError::Storage("it sent less than was asked for".into())),
                    None => self.open = None,
                }
            }
            let Some(mut ahead) = self.ahead.take() else { return Ok(None) };
            let length = ahead.length;
            let answer = (&mut ahead.task).await.map_err(|error| CallError::Storage(error.to_string()))??;
            self.open = Some((answer, length));
            self.ask();
        }
    }
}
