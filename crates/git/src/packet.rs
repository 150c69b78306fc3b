//! git's packet lines (gitprotocol-common): four hexadecimal digits with the length, themselves counted, then the bytes.
//! `0000` ends a message, `0001` stands between its parts.

use tokio::io::{AsyncRead, AsyncReadExt};

/// One line, or what stands between lines.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Packet {
    Line(Vec<u8>),
    /// `0000`
    End,
    /// `0001`
    Part,
}

const END: &[u8] = b"0000";
const PART: &[u8] = b"0001";

/// A text as a line. It must be shorter than 65,516 bytes.
fn line(text: &str) -> Vec<u8> {
    format!("{:04x}{text}", text.len() + 4).into_bytes()
}

/// A whole call of `git upload-pack` (gitprotocol-v2): the command, what is said of it, an end.
pub(crate) fn request(command: &str, said: impl Iterator<Item = String>) -> Vec<u8> {
    let mut request = [line(&format!("command={command}\n")), line("object-format=sha1\n"), PART.to_vec()].concat();
    said.for_each(|text| request.extend(line(&format!("{text}\n"))));
    request.extend(END);
    request
}

/// What every fetch says of the pack that it wants.
pub(crate) const PACK_WORDS: [&str; 4] = ["thin-pack", "ofs-delta", "no-progress", "include-tag"];

/// The next of a stream; an error where it breaks off or is no packet.
pub(crate) async fn read(from: &mut (impl AsyncRead + Unpin)) -> std::io::Result<Packet> {
    let mut length = [0; 4];
    from.read_exact(&mut length).await?;
    let unread = || std::io::Error::new(std::io::ErrorKind::InvalidData, "this is no packet line");
    let text = std::str::from_utf8(&length).map_err(|_| unread())?;
    if text.bytes().any(|byte| !byte.is_ascii_hexdigit()) {
        return Err(unread());
    }
    match usize::from_str_radix(text, 16).map_err(|_| unread())? {
        0 => Ok(Packet::End),
        1 => Ok(Packet::Part),
        2 | 3 => Err(unread()),
        length => {
            let mut bytes = vec![0; length - 4];
            from.read_exact(&mut bytes).await?;
            Ok(Packet::Line(bytes))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn lines_are_read_as_they_were_written() {
        let sent = [line("want 1\n"), PART.to_vec(), line(""), line("é"), END.to_vec()].concat();
        let mut from = &sent[..];
        let texts = |text: &str| Packet::Line(text.as_bytes().to_vec());
        for wanted in [texts("want 1\n"), Packet::Part, texts(""), texts("é"), Packet::End] {
            assert_eq!(read(&mut from).await.unwrap(), wanted);
        }
        for broken in [&b"000"[..], b"0003", b"zzzz", b"+004", b"0009abc", b""] {
            assert!(read(&mut &broken[..]).await.is_err(), "{broken:?}");
        }
    }
}
