//! XML as bytes: a scanner for what arrives and escaping for what is sent.

mod escape;
mod scan;

pub use escape::{escape_attribute, escape_text};
pub use scan::{Attribute, Scanner, Token, XmlError, push_text};

/// Namespace of SOAP 1.1 envelopes (SOAP 1.1 §3).
pub const SOAP_11: &str = "http://schemas.xmlsoap.org/soap/envelope/";
/// Namespace of SOAP 1.2 envelopes (SOAP 1.2 part 1 §5).
pub const SOAP_12: &str = "http://www.w3.org/2003/05/soap-envelope";
/// Namespace of `xsi:nil` and `xsi:type` (XML Schema part 1 §2.6).
pub const XSI: &str = "http://www.w3.org/2001/XMLSchema-instance";
/// Namespace of XML Schema itself.
pub const XSD: &str = "http://www.w3.org/2001/XMLSchema";
