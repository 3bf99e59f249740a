//! JSON text to XML without a tree between: for messages whose members stand in the order of the schema, as most do.
//!
//! Nothing is judged here. What is out of the ordinary – another order, a family of types, attributes, a mistake – is read as a
//! tree and written as every tree is; a mistake leads to the whole body being read again, so that all of them are told.

use super::*;
use crate::tree::{MAX_DEPTH as JSON_DEPTH, Parser};

/// Whether it went straight on; `None`: the tree's way has to be taken from the beginning.
type Straight = Option<()>;

impl<'a> EnvelopeWriter<'a> {
    /// The element of a whole body.
    pub(super) fn straight(&mut self, member: &Member, text: &str) -> Straight {
        if self.encoded.is_some() || (self.xml != 0 && self.xml == member.namespace) {
            return None;
        }
        let mut parser = Parser::new(text);
        parser.peek()?;
        self.straight_element(member, &mut parser)?;
        parser.space();
        (parser.pos == text.len()).then_some(())
    }

    fn straight_element(&mut self, member: &Member, parser: &mut Parser<'_>) -> Straight {
        let first = parser.peek()?;
        match self.plan.get(member.type_id) {
            TypePlan::Simple(simple) if first != b'n' && !member.fixed => {
                let value = parser.value().ok()?;
                let text = simple.to_text(&value).ok()?;
                self.open(member);
                escape_text(self.out, &text).ok()?;
            }
            TypePlan::Object(object) if first == b'{' && is_straight(object) => {
                self.depth += 1;
                if self.depth > MAX_DEPTH {
                    return None;
                }
                self.open(member);
                self.straight_object(object, parser)?;
                self.depth -= 1;
            }
            _ => {
                let value = parser.value().ok()?;
                return self.tree(|w| w.element(member, &value));
            }
        }
        self.close(member);
        Some(())
    }

    /// What a tree says; its mistakes are told by the way that knows their places.
    fn tree(&mut self, write: impl FnOnce(&mut Self)) -> Straight {
        write(self);
        self.errors.is_empty().then_some(())
    }

    fn straight_object(&mut self, object: &ObjectPlan, parser: &mut Parser<'_>) -> Straight {
        let (from, written) = (parser.pos, self.out.len());
        match self.in_order(object, parser)? {
            Order::Kept => Some(()),
            Order::Other => {
                parser.pos = from;
                self.out.truncate(written);
                let value = parser.value().ok()?;
                // Objects within objects can make that happen at every level; all together it is never more than one more time.
                self.again += parser.pos - from;
                if self.again > parser.text.len() {
                    return None;
                }
                let Json::Object(map) = &value else {
                    return None;
                };
                self.tree(|w| w.members(object, map, false))
            }
        }
    }

    /// The members of an object, as long as they come in the schema's order.
    fn in_order(&mut self, object: &ObjectPlan, parser: &mut Parser<'_>) -> Option<Order> {
        parser.depth += 1;
        if parser.depth > JSON_DEPTH {
            return None;
        }
        parser.pos += 1;
        let mut rest = object.members.iter().zip(object.row.as_deref()?);
        let mut more = parser.peek()? != b'}';
        if !more {
            parser.pos += 1;
        }
        while more {
            let name = parser.name().ok()?;
            let found = loop {
                match rest.next() {
                    Some((member, _)) if member.json == name => break Some(member),
                    Some((_, true)) => {}
                    _ => break None,
                }
            };
            let Some(member) = found else {
                parser.depth -= 1;
                return Some(Order::Other);
            };
            self.straight_child(member, parser)?;
            more = parser.another(b'}').ok()?;
        }
        parser.depth -= 1;
        let whole = rest.all(|(_, may_lack)| *may_lack);
        Some(if whole { Order::Kept } else { Order::Other })
    }

    fn straight_child(&mut self, member: &Member, parser: &mut Parser<'_>) -> Straight {
        let first = parser.peek()?;
        match (&member.items, first) {
            (Some(item), b'[') => {
                self.open(member);
                self.straight_list(item, parser)?;
                self.close(member);
                Some(())
            }
            (None, b'[') if member.many && member.kind == MemberKind::Element => {
                self.straight_list(member, parser)
            }
            (None, _) if !member.many && member.kind == MemberKind::Element => {
                self.straight_element(member, parser)
            }
            _ => {
                let value = parser.value().ok()?;
                self.tree(|w| w.child(member, &value))
            }
        }
    }

    fn straight_list(&mut self, item: &Member, parser: &mut Parser<'_>) -> Straight {
        if item.kind != MemberKind::Element {
            let value = parser.value().ok()?;
            let Json::Array(values) = &value else {
                return None;
            };
            return self.tree(|w| w.list(item, values));
        }
        parser.depth += 1;
        if parser.depth > JSON_DEPTH {
            return None;
        }
        parser.pos += 1;
        let mut count = 0u64;
        let mut more = parser.peek()? != b']';
        if !more {
            parser.pos += 1;
        }
        while more {
            self.straight_element(item, parser)?;
            count += 1;
            more = parser.another(b']').ok()?;
        }
        parser.depth -= 1;
        let fits =
            count >= u64::from(item.min) && item.max.is_none_or(|max| count <= u64::from(max));
        fits.then_some(())
    }

    fn open(&mut self, member: &Member) {
        let name = &member.tag[2..];
        self.out.reserve(name.len() + 1);
        self.out.push(b'<');
        self.out.extend_from_slice(name);
    }

    fn close(&mut self, member: &Member) {
        self.out.extend_from_slice(&member.tag);
    }
}

/// Whether an object's members came as the schema orders them.
enum Order {
    Kept,
    Other,
}

/// Whether an object is a row of elements and nothing else.
fn is_straight(object: &ObjectPlan) -> bool {
    object.row.is_some()
        && object.derived.is_empty()
        && !object.is_abstract
        && object.label.is_none()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Files, read_definition};

    const WSDL: &str = include_str!("../../../../standins/definitions/reservations.wsdl");

    /// Writes a text without a tree: whether that was possible, what came out, and how many bytes were read again.
    fn straight(wsdl: &str, operation: &str, text: &str) -> (bool, String, usize) {
        let files = Files::from([("m".to_owned(), wsdl.to_owned())]);
        let definition = read_definition(&files, "m").unwrap();
        let operation = definition.operation(operation).unwrap();
        let input = operation.input.clone().unwrap();
        let mut out = Vec::new();
        let mut writer = EnvelopeWriter::new(&definition.plan, &mut out, None);
        let done = writer.straight(&input.element.unwrap(), text).is_some();
        let again = writer.again;
        (done, String::from_utf8(out).unwrap(), again)
    }

    #[test]
    fn members_in_order_need_no_tree_and_others_only_for_their_object() {
        let hold = |passenger: &str| {
            let text = format!(
                r#"{{"SailingId":"S","FareClass":"car","Passengers":[{{"Name":"A"}},{passenger}]}}"#
            );
            straight(WSDL, "HoldSeats", &text)
        };
        let ordered = hold(r#"{"Name":"B & C","Born":"1984-03-07"}"#);
        let turned = hold(r#"{"Born":"1984-03-07","Name":"B & C"}"#);
        assert!(ordered.0 && ordered.1.contains("<n1:Name>B &amp; C</n1:Name><n1:Born>"));
        assert_eq!((ordered.2, turned.2), (0, 36));
        assert_eq!(ordered.1, turned.1);
        // What is wrong is told by the way that knows its place.
        assert!(!hold(r#"{"Name":5}"#).0);
        assert!(!hold(r#"{"Name":"a\u0001"}"#).0);
        assert!(!hold("{\"Name\":\"\u{fffe}\"}").0);
        assert!(!hold("{}").0);
        assert!(!hold(r#"{"Name":"B"} x"#).0);
    }

    #[test]
    fn objects_out_of_order_at_every_level_are_not_read_again_at_every_level() {
        let node = "<xsd:element name=\"HoldSeats\" type=\"r:Node\"/><xsd:complexType name=\"Node\"><xsd:sequence><xsd:element name=\"a\" type=\"xsd:string\" minOccurs=\"0\"/><xsd:element name=\"n\" type=\"r:Node\" minOccurs=\"0\"/></xsd:sequence></xsd:complexType><xsd:element name=\"Held\">";
        let wsdl = WSDL.replacen("<xsd:element name=\"HoldSeats\">", node, 1);
        let text = format!("{}{}", r#"{"n":"#.repeat(60), r#"{"a":"x"}"#);
        let text = format!("{text}{}", r#","a":"y"}"#.repeat(60));
        let (done, _, again) = straight(&wsdl, "HoldSeats", &text);
        assert!(!done && again > text.len() && again < 2 * text.len());
        let (done, out, again) = straight(&wsdl, "HoldSeats", r#"{"n":{"a":"x"},"a":"y"}"#);
        assert!(done && again == 23, "{again}");
        assert!(
            out.contains("<n1:a>y</n1:a><n1:n><n1:a>x</n1:a></n1:n>"),
            "{out}"
        );
    }
}
