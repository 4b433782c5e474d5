//! The one content coding: gzip (RFC 1952).

use std::io::{Read, Write};

use flate2::read::MultiGzDecoder;
use flate2::write::GzEncoder;
use flate2::Compression;

/// How large a body is at least for which compression is worth while, in bytes.
pub(super) const FROM: usize = 1 << 10;

pub(super) fn compressed(body: &[u8]) -> Vec<u8> {
    let mut w = GzEncoder::new(Vec::with_capacity(body.len() / 2), Compression::fast());
    match w.write_all(body).and_then(|()| w.finish()) {
        Ok(out) => out,
        Err(e) => unreachable!("memory takes all that is written: {e}"),
    }
}

/// Is what a body in gzip holds, all of it; at most one byte more than the limit.
pub(super) fn expanded(body: &[u8], limit: usize) -> Option<Vec<u8>> {
    let mut out = Vec::new();
    let most = u64::try_from(limit).unwrap_or(u64::MAX).saturating_add(1);
    MultiGzDecoder::new(body)
        .take(most)
        .read_to_end(&mut out)
        .ok()?;
    Some(out)
}
