//! Values that follow each other as expected are read at once where all of them is here: the outcome is the one of an answer
//! that arrives byte by byte, where nothing ever is.

use super::*;

const SCHEMA: &str = "<x:element name='In' type='t:M'/><x:element name='Out' type='t:M'/><x:complexType name='M'><x:sequence>\
    <x:element name='a' type='x:string' minOccurs='0' maxOccurs='9'/><x:element name='b' type='x:int' minOccurs='0' default='7' nillable='true'/>\
    <x:element name='c' type='x:token'/><x:element name='ab' type='x:decimal' minOccurs='0'/><x:element name='m' type='t:M' minOccurs='0' maxOccurs='9'/>\
    <x:element name='c' type='x:token' minOccurs='0'/><x:element name='z' type='x:date' minOccurs='0'/>\
    <x:sequence minOccurs='0' maxOccurs='9'><x:element name='g' type='x:string' minOccurs='0'/><x:choice minOccurs='0'><x:element name='h' type='x:string'/><x:element name='i' type='x:int'/></x:choice></x:sequence></x:sequence></x:complexType>";

/// What may stand in an object; `P` is a prefix with its colon, or nothing.
const PIECES: [&str; 33] = [
    "<Pa>one</Pa>",
    "<Pa>two</Pa>",
    "<Pa/>",
    "<Pa></Pa>",
    "<Pa>&lt;&#233;</Pa>",
    "<Pa>x\r\ny</Pa>",
    "<Pa>a longer text, which is looked through in another way than short ones</Pa>",
    "<Pa>a longer text with a reference far behind its beginning &amp; more</Pa>",
    "<Pa><![CDATA[<&]]></Pa>",
    "<Pa>x<!-- y -->z</Pa>",
    "<Pa >three</Pa >",
    "<Pa xmlns:q='urn:q'>four</Pa>",
    "<Pb>1</Pb>",
    "<Pb>no number</Pb>",
    "<Pb/>",
    "<Pb xsi:nil='true'/>",
    "<Pc> to ken </Pc>",
    "<Pc>d</Pc>",
    "<Pab>1.50</Pab>",
    "<Pm><Pc>in</Pc></Pm>",
    "<Pm><Pa>in</Pa><Pa>deep</Pa><Pc>er</Pc></Pm>",
    "<Pm/>",
    "<Pz>2027-05-14</Pz>",
    "<Pg>g</Pg>",
    "<Ph>h</Ph>",
    "<Pi>4</Pi>",
    "<unknown>x</unknown>",
    "<a>other</a>",
    "<q:a xmlns:q='urn:t'>own</q:a>",
    "<q:a xmlns:q='urn:q'>strange</q:a>",
    "<!-- between -->",
    "\n  ",
    "text",
];

/// What comes of an answer that arrives in pieces of a size.
fn outcome(
    read: &Read,
    xml: &str,
    size: usize,
    gather: bool,
) -> Result<(Answer, String, Vec<String>), String> {
    let mut reader = read.reader();
    if gather {
        reader = reader.gathering();
    }
    let mut out = Vec::new();
    for piece in xml.as_bytes().chunks(size) {
        reader.feed(piece, &mut out).map_err(|e| e.to_string())?;
    }
    let answer = reader.finish(&mut out).map_err(|e| e.to_string())?;
    Ok((answer, String::from_utf8(out).unwrap(), reader.notes))
}

proptest::proptest! {
    #![proptest_config(proptest::prelude::ProptestConfig { cases: 600, failure_persistence: None, ..Default::default() })]

    #[test]
    fn what_comes_at_once_is_read_as_what_comes_byte_by_byte(
        pieces in proptest::collection::vec(0usize..PIECES.len(), 0..12), prefix in 0usize..3, qualified: bool, cut in 2usize..60,
    ) {
        let (prefix, open) = [("t:", "<t:Out>"), ("", "<Out xmlns='urn:t'>"), ("longer-than-most:", "<longer-than-most:Out xmlns:longer-than-most='urn:t'>")][prefix];
        let own = if qualified { prefix } else { "" };
        let body: String = pieces.iter().map(|i| PIECES[*i].replace("<P", &format!("<{own}")).replace("</P", &format!("</{own}"))).collect();
        let form = if qualified { "elementFormDefault='qualified'" } else { "" };
        let read = Wsdl::new().schema(SCHEMA, form).read();
        let xml = enveloped(&format!("{open}{body}</{prefix}Out>"));
        for gather in [false, true] {
            let bytewise = outcome(&read, &xml, 1, gather);
            proptest::prop_assert_eq!(&outcome(&read, &xml, xml.len(), gather), &bytewise, "{}", &xml);
            proptest::prop_assert_eq!(&outcome(&read, &xml, cut, gather), &bytewise, "{} in pieces of {}", &xml, cut);
        }
    }
}

#[test]
fn a_prefix_that_a_child_declares_is_not_its_siblings() {
    let read = Wsdl::new()
        .schema(SCHEMA, "elementFormDefault='qualified'")
        .read();
    let body = "<t:Out><q:a xmlns:q='urn:t'>one</q:a><q:a>two</q:a><t:c>x</t:c></t:Out>";
    let refused = read.answer(enveloped(body).as_bytes()).unwrap_err();
    assert!(refused.to_string().contains("“q”"), "{refused}");
}
