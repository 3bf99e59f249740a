//! Answers to what the porch asks on its own account: for tokens, for keys.

use bytes::Bytes;
use http_body_util::BodyExt;

use super::{Answered, CallFailure, deepest};

/// Why something was not answered.
pub(crate) fn failed(failure: &CallFailure) -> String {
    match failure {
        CallFailure::Connect(e) => format!("it cannot be reached: {}", deepest(e)),
        CallFailure::ConnectTimeout => "it takes no connection in time".into(),
        CallFailure::Busy(_) => "all its connections are in use".into(),
        CallFailure::Broken(why) => format!("it broke off: {why}"),
        CallFailure::Timeout => "it does not answer in time".into(),
        CallFailure::Resting(_) => "it is left alone".into(),
    }
}

/// The whole of an answer, of at most so many bytes.
pub(crate) async fn whole(answered: Answered, most: usize) -> Result<Bytes, String> {
    let (mut body, mut all) = (answered.body, Vec::new());
    while let Some(frame) = body.frame().await {
        let frame = frame.map_err(|e| format!("it broke off: {e}"))?;
        if let Ok(data) = frame.into_data() {
            if all.len() + data.len() > most {
                return Err(format!("its answer has more than {most} bytes"));
            }
            all.extend_from_slice(&data);
        }
    }
    if let Some(lease) = answered.lease {
        lease.give_back();
    }
    Ok(all.into())
}
