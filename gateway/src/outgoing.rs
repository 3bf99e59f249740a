//! Requests on their way to a backend, before they are those of a client.
//!
//! A list of a dozen fields is made, looked through and written sooner than a map of them.

use http::{HeaderMap, HeaderName, HeaderValue, Method, Request, Uri, Version};

use crate::body::OutBody;
use crate::fields::TRACEPARENT;

/// A request to a backend.
pub(crate) struct Outgoing {
    pub(crate) method: Method,
    pub(crate) uri: Uri,
    pub(crate) fields: Fields,
    pub(crate) body: OutBody,
}

impl Outgoing {
    /// As other clients take it.
    pub(crate) fn into_http(self, version: Version) -> Request<OutBody> {
        let mut request = Request::new(self.body);
        *request.method_mut() = self.method;
        *request.uri_mut() = self.uri;
        *request.version_mut() = version;
        *request.headers_mut() = self.fields.into_map();
        request
    }

    /// Apart, for HTTP/2. What is new in each request is not kept in the table of fields, where it would drive out what is
    /// the same in all of them (RFC 7541 §6.2.3).
    pub(crate) fn into_head(mut self) -> (Request<()>, OutBody) {
        for (name, value) in &mut self.fields.list {
            if *name == TRACEPARENT {
                value.set_sensitive(true);
            }
        }
        let mut request = Request::new(());
        *request.method_mut() = self.method;
        *request.uri_mut() = self.uri;
        *request.version_mut() = Version::HTTP_2;
        *request.headers_mut() = self.fields.into_map();
        (request, self.body)
    }

    /// As other clients give it back.
    pub(crate) fn of_http(request: Request<OutBody>) -> Self {
        let (parts, body) = request.into_parts();
        Self {
            method: parts.method,
            uri: parts.uri,
            fields: Fields::of_map(&parts.headers),
            body,
        }
    }
}

/// Header fields; those of one name in the order in which they came (RFC 9110 §5.3).
#[derive(Clone, Debug, Default)]
pub(crate) struct Fields {
    list: Vec<(HeaderName, HeaderValue)>,
    /// A bit for each name that was added: where it is not set, the name is not there, and is not looked for.
    names: u64,
}

/// The bit of a name: others may have the same.
#[inline]
fn bit(name: &HeaderName) -> u64 {
    let bytes = name.as_str().as_bytes();
    let (first, last) = match bytes {
        [] => (0, 0),
        [first, .., last] => (*first, *last),
        [one] => (*one, *one),
    };
    let mixed = bytes.len() + 5 * usize::from(first) + 11 * usize::from(last);
    1 << (mixed % 64)
}

impl Fields {
    pub(crate) fn with_capacity(room: usize) -> Self {
        Self {
            list: Vec::with_capacity(room),
            names: 0,
        }
    }

    fn of_map(map: &HeaderMap) -> Self {
        let mut fields = Self::with_capacity(map.len());
        for (name, value) in map {
            fields.append(name.clone(), value.clone());
        }
        fields
    }

    /// Adds a field beside others of its name.
    pub(crate) fn append(&mut self, name: HeaderName, value: HeaderValue) {
        self.names |= bit(&name);
        self.list.push((name, value));
    }

    /// Adds a field in place of all others of its name.
    #[inline]
    pub(crate) fn set(&mut self, name: &HeaderName, value: HeaderValue) {
        if self.names & bit(name) == 0 {
            self.append(name.clone(), value);
        } else {
            self.replace(name, value);
        }
    }

    fn replace(&mut self, name: &HeaderName, value: HeaderValue) {
        match self.list.iter().position(|(other, _)| other == name) {
            None => self.append(name.clone(), value),
            Some(at) => {
                self.list[at].1 = value;
                let mut place = 0;
                self.list.retain(|(other, _)| {
                    place += 1;
                    place <= at + 1 || other != name
                });
            }
        }
    }

    /// Takes all fields of a name away.
    pub(crate) fn remove(&mut self, name: &HeaderName) {
        if self.names & bit(name) != 0 {
            self.list.retain(|(other, _)| other != name);
        }
    }

    pub(crate) fn iter(&self) -> impl Iterator<Item = (&HeaderName, &HeaderValue)> {
        self.list.iter().map(|(name, value)| (name, value))
    }

    pub(crate) fn to_map(&self) -> HeaderMap {
        self.clone().into_map()
    }

    pub(crate) fn into_map(self) -> HeaderMap {
        let mut map = HeaderMap::with_capacity(self.list.len());
        for (name, value) in self.list {
            map.append(name, value);
        }
        map
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use http::header::{ACCEPT, HOST, VIA};

    /// What is done to a list is done to a map: both end up the same.
    #[test]
    fn a_list_of_fields_does_as_a_map_does() {
        let names = [ACCEPT, HOST, VIA, HeaderName::from_static("berth")];
        let (mut state, mut most) = (7u32, 0);
        for _ in 0..200 {
            let (mut fields, mut map) = (Fields::default(), HeaderMap::new());
            for i in 0..12 {
                state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
                let name = &names[(state >> 16) as usize % names.len()];
                let value = HeaderValue::from(i);
                match (state >> 24) % 4 {
                    0 => {
                        fields.set(name, value.clone());
                        map.insert(name, value);
                    }
                    1 => {
                        fields.remove(name);
                        map.remove(name);
                    }
                    _ => {
                        fields.append(name.clone(), value.clone());
                        map.append(name, value);
                    }
                }
                assert_eq!(fields.to_map(), map);
            }
            most = most.max(map.len());
        }
        assert!(most > 6, "{most}");
    }
}
