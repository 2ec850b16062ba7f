//! Logs and summaries as they lie in files: plain, or packed by gzip or zstd.

use std::fs::File;
use std::io::{self, BufRead as _, BufReader, Read};
use std::path::Path;

use bexum_wire::usage::SUMMARY_MARK;
use indicatif::ProgressBar;
use ruzstd::decoding::{FrameDecoder, StreamingDecoder};

/// The first bytes of what gzip packed.
const GZIP: [u8; 2] = [0x1f, 0x8b];
/// The first bytes of a frame of zstd.
const ZSTD: [u8; 4] = [0x28, 0xb5, 0x2f, 0xfd];

type Input = Box<dyn Read + Send>;

/// A log or a summary, unpacked, and whether it is a summary. The bar goes on with what is read.
pub(super) fn open(path: &Path, bar: &ProgressBar) -> io::Result<(Input, bool)> {
    let raw: Input = if path == Path::new("-") {
        Box::new(io::stdin())
    } else {
        let file = File::open(path)?;
        if file.metadata()?.is_dir() {
            return Err(io::ErrorKind::IsADirectory.into());
        }
        Box::new(bar.wrap_read(file))
    };
    let (start, raw) = peek(raw, ZSTD.len())?;
    let unpacked: Input = if start.starts_with(&GZIP) {
        Box::new(flate2::read::MultiGzDecoder::new(raw))
    } else if start == ZSTD {
        Box::new(Frames { rest: Some(BufReader::new(raw)), frame: None })
    } else {
        raw
    };
    let (start, unpacked) = peek(unpacked, SUMMARY_MARK.len())?;
    Ok((unpacked, start == SUMMARY_MARK.as_bytes()))
}

/// The first bytes, and all of them again.
fn peek(mut input: Input, many: usize) -> io::Result<(Vec<u8>, Input)> {
    let mut start = Vec::with_capacity(many);
    (&mut input).take(many as u64).read_to_end(&mut start)?;
    let again = io::Cursor::new(start.clone()).chain(input);
    Ok((start, Box::new(again)))
}

/// What zstd packed: frames one after the other.
struct Frames {
    /// What follows, while no frame is open.
    rest: Option<BufReader<Input>>,
    frame: Option<StreamingDecoder<BufReader<Input>, FrameDecoder>>,
}

impl Read for Frames {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        loop {
            if let Some(frame) = &mut self.frame {
                let read = frame.read(into)?;
                if read > 0 || into.is_empty() {
                    return Ok(read);
                }
                self.rest = self.frame.take().map(StreamingDecoder::into_inner);
            }
            let Some(mut rest) = self.rest.take() else { return Ok(0) };
            if rest.fill_buf()?.is_empty() {
                return Ok(0);
            }
            self.frame = Some(StreamingDecoder::new(rest).map_err(io::Error::other)?);
        }
    }
}
