//! Requests on their way to a backend, before they are those of a client.
//!
//! A list of a dozen fields is made, looked through and written sooner than a map of them.

use std::sync::Arc;

use http::{HeaderMap, HeaderName, HeaderValue, Method, Request, Uri, Version};
use porch_facade::kind::http::{FixedFields, name_bit};

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
    /// Fields that are not in the list, as long as nobody looks for one of them.
    fixed: Option<Arc<FixedFields>>,
}

impl Fields {
    pub(crate) fn with_capacity(room: usize) -> Self {
        Self {
            list: Vec::with_capacity(room),
            names: 0,
            fixed: None,
        }
    }

    pub(crate) fn of_map(map: &HeaderMap) -> Self {
        let mut fields = Self::with_capacity(map.len());
        for (name, value) in map {
            fields.append(name.clone(), value.clone());
        }
        fields
    }

    /// Adds a field beside others of its name.
    #[inline]
    pub(crate) fn append(&mut self, name: HeaderName, value: HeaderValue) {
        if self.may_have(&name) {
            self.open(&name);
        }
        self.push(name, value);
    }

    /// Adds a field in place of all others of its name.
    #[inline]
    pub(crate) fn set(&mut self, name: &HeaderName, value: HeaderValue) {
        if self.may_have(name) {
            self.replace(name, value);
        } else {
            self.push(name.clone(), value);
        }
    }

    /// Sets fields that are the same for each request.
    pub(crate) fn set_fixed(&mut self, fixed: &Arc<FixedFields>) {
        if self.names & fixed.names() == 0 && self.fixed.is_none() {
            self.names |= fixed.names();
            self.fixed = Some(fixed.clone());
        } else {
            for (name, value) in fixed.iter() {
                self.set(&name, value);
            }
        }
    }

    /// Takes all fields of a name away.
    pub(crate) fn remove(&mut self, name: &HeaderName) {
        if self.may_have(name) {
            self.open(name);
            self.list.retain(|(other, _)| other != name);
        }
    }

    #[inline]
    fn may_have(&self, name: &HeaderName) -> bool {
        self.names & name_bit(name) != 0
    }

    #[inline]
    fn push(&mut self, name: HeaderName, value: HeaderValue) {
        self.names |= name_bit(&name);
        self.list.push((name, value));
    }

    /// Puts the fixed fields into the list, where a name is among them.
    fn open(&mut self, name: &HeaderName) {
        if self.fixed.as_ref().is_some_and(|fixed| fixed.has(name)) {
            self.open_all();
        }
    }

    fn open_all(&mut self) {
        if let Some(fixed) = self.fixed.take() {
            self.list.extend(fixed.iter());
        }
    }

    fn replace(&mut self, name: &HeaderName, value: HeaderValue) {
        self.open(name);
        match self.list.iter().position(|(other, _)| other == name) {
            None => self.push(name.clone(), value),
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

    /// The fields one by one, without those that are fixed; and the lines of those.
    pub(crate) fn parts(&self) -> (&[(HeaderName, HeaderValue)], &str) {
        let fixed = self.fixed.as_ref();
        (&self.list, fixed.map_or("", |fixed| fixed.lines()))
    }

    /// All of them, one by one.
    pub(crate) fn into_list(mut self) -> Vec<(HeaderName, HeaderValue)> {
        self.open_all();
        self.list
    }

    pub(crate) fn to_map(&self) -> HeaderMap {
        self.clone().into_map()
    }

    pub(crate) fn into_map(self) -> HeaderMap {
        let list = self.into_list();
        let mut map = HeaderMap::with_capacity(list.len());
        for (name, value) in list {
            map.append(name, value);
        }
        map
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use http::header::{ACCEPT, HOST, VIA};
    use porch_facade::kind::http::HeaderRule;

    /// What is done to a list is done to a map: both end up the same.
    #[test]
    fn a_list_of_fields_does_as_a_map_does() {
        let names = [ACCEPT, HOST, VIA, HeaderName::from_static("berth")];
        let rule = |name: &HeaderName, value| {
            let value = HeaderValue::from_static(value);
            (name.clone(), HeaderRule::Set(value))
        };
        let mut rules = vec![rule(&names[3], "fixed"), rule(&names[0], "text/fixed")];
        let fixed = Arc::new(FixedFields::of(&mut rules).unwrap());
        let (mut state, mut most, mut whole) = (7u32, 0, 0);
        for _ in 0..200 {
            let (mut fields, mut map) = (Fields::default(), HeaderMap::new());
            for i in 0..12 {
                state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
                let name = &names[(state >> 16) as usize % names.len()];
                let value = HeaderValue::from(i);
                match (state >> 24) % 5 {
                    4 => {
                        fields.set_fixed(&fixed);
                        for (name, value) in fixed.iter() {
                            map.insert(name, value);
                        }
                        whole += usize::from(fields.parts().1 == fixed.lines());
                    }
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
        assert!(most > 6 && whole > 20, "{most} {whole}");
    }
}
