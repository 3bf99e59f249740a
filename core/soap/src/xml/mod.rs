//! XML as bytes: a scanner for what arrives and escaping for what is sent.

mod entities;
mod escape;
mod names;
mod references;
mod scan;
mod token;

pub(crate) use entities::entities_fit;
pub use escape::{escape_attribute, escape_text};
pub use references::{ReferenceError, push_attribute, push_text};
pub use scan::Scanner;
pub use token::{Attribute, Token, XmlError};

/// Namespace of SOAP 1.1 envelopes (SOAP 1.1 §3).
pub const SOAP_11: &str = "http://schemas.xmlsoap.org/soap/envelope/";
/// Namespace of SOAP 1.2 envelopes (SOAP 1.2 part 1 §5).
pub const SOAP_12: &str = "http://www.w3.org/2003/05/soap-envelope";
/// Namespace of `xsi:nil` and `xsi:type` (XML Schema part 1 §2.6).
pub const XSI: &str = "http://www.w3.org/2001/XMLSchema-instance";
/// Namespace of XML Schema itself.
pub const XSD: &str = "http://www.w3.org/2001/XMLSchema";
/// Namespace of XML Schema's drafts of 1999 and 2000, which old definitions still use.
pub const XSD_OLD: [&str; 2] = [
    "http://www.w3.org/1999/XMLSchema",
    "http://www.w3.org/2000/10/XMLSchema",
];
/// Namespaces of `xsi:nil` and `xsi:type` in those drafts.
pub const XSI_OLD: [&str; 2] = [
    "http://www.w3.org/1999/XMLSchema-instance",
    "http://www.w3.org/2000/10/XMLSchema-instance",
];
/// Namespace of the encoding of SOAP 1.1 (§5).
pub const ENCODING_11: &str = "http://schemas.xmlsoap.org/soap/encoding/";
/// Namespace of the encoding of SOAP 1.2 (part 2 §3).
pub const ENCODING_12: &str = "http://www.w3.org/2003/05/soap-encoding";
/// Namespace of the prefix `xml` (Namespaces in XML 1.0 §3).
pub const XML: &str = "http://www.w3.org/XML/1998/namespace";

/// Whether a namespace is that of XML Schema, in any of its editions.
pub fn is_xsd(uri: &str) -> bool {
    uri == XSD || XSD_OLD.contains(&uri)
}

/// Whether a namespace is that of XML Schema's instance attributes, in any of its editions.
pub fn is_xsi(uri: &str) -> bool {
    uri == XSI || XSI_OLD.contains(&uri)
}
