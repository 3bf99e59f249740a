//! What is large, and what means harm.

use super::*;

#[test]
fn a_definition_of_a_thousand_operations_is_read_at_once() {
    let mut wsdl = Wsdl::new();
    let (mut content, mut messages, mut operations, mut bound) =
        (String::new(), String::new(), String::new(), String::new());
    for i in 0..1000 {
        let fields: String = (0..6)
            .map(|k| format!("<x:element name='f{k}' type='x:string'/>"))
            .collect();
        content += &format!(
            "<x:complexType name='T{i}'><x:sequence>{fields}<x:element name='next' type='t:T{}' minOccurs='0'/></x:sequence></x:complexType><x:complexType name='R{i}'><x:sequence>{fields}</x:sequence></x:complexType><x:element name='In{i}' type='t:T{i}'/><x:element name='Out{i}' type='t:R{i}'/>",
            (i + 1) % 1000
        );
        messages += &format!(
            "<message name='In{i}'><part name='p' element='t:In{i}'/></message><message name='Out{i}'><part name='p' element='t:Out{i}'/></message>"
        );
        operations += &format!(
            "<operation name='Do{i}'><input message='t:In{i}'/><output message='t:Out{i}'/></operation>"
        );
        bound += &BOUND.replace("name='Do'", &format!("name='Do{i}'"));
    }
    wsdl = wsdl.schema(&content, "elementFormDefault='qualified'");
    wsdl.messages = messages;
    wsdl.port_type = format!("<portType name='P'>{operations}</portType>");
    wsdl.binding = wsdl.binding.replace(BOUND, &bound);
    let read = wsdl.read();
    assert_eq!(read.definition.operations.len(), 1000);
    assert!(
        read.definition
            .operations
            .iter()
            .all(|o| o.unavailable.is_none()),
        "{}",
        read.findings()
    );
}

/// The messages and definitions that mutations begin with.
pub(crate) fn real_bytes(which: usize) -> Vec<u8> {
    let text = match which % 5 {
        0 => enveloped(
            "<r:DoResponse xmlns:r='urn:rpc'><legs href='#i'/><names enc:arrayType='xsd:string[1]'><item>a</item></names><grid/></r:DoResponse><m id='i'><x><from>F</from><next xsi:nil='1'/></x></m>",
        ),
        1 => Wsdl::new().text(),
        2 => Wsdl::new().schema(encoding::ENCODED_TYPES, "").rpc("encoded", "<part name='n' type='x:int'/>", "<part name='legs' type='t:Legs'/>").text(),
        3 => "<a k='1' xmlns:p='urn:p'>x<b>&amp;<![CDATA[<]]></b>y<p:c xsi:nil='true' xmlns:xsi='http://www.w3.org/2001/XMLSchema-instance'/></a>".into(),
        _ => "--b\r\nContent-ID: <r>\r\n\r\n<a/>\r\n--b\r\nContent-Transfer-Encoding: base64\r\nContent-ID: <p>\r\n\r\nAAAA\r\n--b--\r\n".into(),
    };
    text.into_bytes()
}

#[test]
fn hostile_answers_cost_bounded_memory_and_time() {
    let read = Wsdl::new().read();
    let many =
        |piece: &str, times: usize| enveloped(&format!("<t:Out>{}</t:Out>", piece.repeat(times)));
    let attributes: String = (0..300).map(|i| format!(" a{i}=''")).collect();
    let namespaces: String = (0..240).map(|i| format!(" xmlns:p{i}='urn:{i}'")).collect();
    for (what, xml) in [
        (
            "deep nesting",
            format!(
                "{}{}",
                enveloped("").split("</s:Body>").next().unwrap(),
                "<a>".repeat(100_000)
            ),
        ),
        ("attributes", enveloped(&format!("<t:Out{attributes}/>"))),
        (
            "namespaces",
            enveloped(&format!("<a{namespaces}>").repeat(10)),
        ),
        ("a duplicate attribute", enveloped("<t:Out k='1' k='2'/>")),
        ("an unbound prefix", enveloped("<q:Out/>")),
        ("an entity", enveloped("<t:Out><t:a>&lol;</t:a></t:Out>")),
        (
            "a doctype",
            format!("<!DOCTYPE s [<!ENTITY a 'b'>]>{}", enveloped("<t:Out/>")),
        ),
        ("a premature end", enveloped("<t:Out>")),
        ("a name without an end", format!("<{}", "a".repeat(2 << 20))),
    ] {
        assert!(read.answer(xml.as_bytes()).is_err(), "{what}");
    }
    // Much of what nobody asked for is passed by, and told once.
    let (_, json, notes) = read
        .answer(many("<t:x><t:y/></t:x>", 100_000).as_bytes())
        .unwrap();
    assert_eq!((json.as_str(), notes.len()), ("{}", 1));
}
