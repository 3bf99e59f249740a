//! Messages of several parts, of none, and with headers.

use super::*;

#[test]
fn qualified_unqualified_and_absent_form_in_one_message() {
    let schemas = "<x:schema targetNamespace='urn:t'><x:element name='In' type='t:M'/><x:element name='Out' type='t:M'/><x:complexType name='M'><x:sequence><x:element name='plain' type='x:int'/><x:element xmlns:q='urn:q' name='q' type='q:Q'/><x:element name='own' type='x:int' form='qualified'/></x:sequence></x:complexType></x:schema>
                   <x:schema targetNamespace='urn:q' elementFormDefault='qualified'><x:complexType name='Q'><x:sequence><x:element name='inner' type='x:int'/></x:sequence></x:complexType></x:schema>";
    let mut wsdl = Wsdl::new();
    wsdl.schema = schemas.into();
    let read = wsdl.read();
    let value = json!({"plain": 1, "q": {"inner": 2}, "own": 3});
    assert!(
        read.body(&value)
            .starts_with("<n1:In><plain>1</plain><q><n"),
        "{}",
        read.body(&value)
    );
    assert_eq!(read.json("<t:Out><plain>1</plain><q><i:inner xmlns:i='urn:q'>2</i:inner></q><t:own>3</t:own></t:Out>"), (value.to_string(), vec![]));
    // A server that qualifies what it should not, and the reverse.
    let (json, notes) = read.json(
        "<Out xmlns='urn:t'><plain>1</plain><q><inner>2</inner></q><own xmlns=''>3</own></Out>",
    );
    assert_eq!((json, notes.len()), (value.to_string(), 4), "{notes:?}");
}

#[test]
fn header_and_body_as_parts_of_one_message_and_several_headers() {
    let mut wsdl = Wsdl::new().schema(&format!("{ELEMENTS}<x:element name='Login' type='x:string'/><x:element name='Lang' type='x:string'/>"), "elementFormDefault='qualified'");
    wsdl.messages = "<message name='In'><part name='h' element='t:Login'/><part name='p' element='t:In'/></message><message name='Out'><part name='p' element='t:Out'/><part name='l' element='t:Lang'/></message><message name='H'><part name='l' element='t:Lang'/></message>".into();
    wsdl.binding = wsdl
        .binding
        .replacen("<s:body use='literal'/>", "<s:header message='t:In' part='h' use='literal'/><s:header message='t:H' part='l' use='literal'/><s:body use='literal' parts='p'/>", 1)
        .replace("<output><s:body use='literal'/>", "<output><s:body use='literal'/><s:header message='t:Out' part='l' use='literal'/>");
    let read = wsdl.read();
    let operation = &read.definition.operations[0];
    assert_eq!(
        operation
            .headers
            .iter()
            .map(|h| h.json.as_str())
            .collect::<Vec<_>>(),
        ["Login", "Lang"]
    );
    let envelope = Envelope::new(read.plan.clone(), operation, &json!({"Login": "porch"})).unwrap();
    let mut out = Vec::new();
    envelope
        .write_with(
            &porch_soap::tree::Json::of(&json!({"a": "1"})),
            Some(&json!({"Lang": "en"})),
            b"<x/>",
            &mut out,
        )
        .unwrap();
    let text = String::from_utf8(out).unwrap();
    assert!(text.contains("<soap:Header><x/><n1:Login>porch</n1:Login><n1:Lang>en</n1:Lang></soap:Header><soap:Body><n1:In>"), "{text}");
    // What the answer's header says is kept beside its body.
    let mut reader = read.reader();
    let mut out = Vec::new();
    reader
        .feed(
            enveloped("<t:Out/>")
                .replace(
                    "<s:Body>",
                    "<s:Header><t:Lang>de</t:Lang><t:Unknown/></s:Header><s:Body>",
                )
                .as_bytes(),
            &mut out,
        )
        .unwrap();
    reader.finish(&mut out).unwrap();
    assert_eq!(
        (out, reader.headers()),
        (b"{}".to_vec(), Some(br#"{"Lang":"de"}"#.to_vec()))
    );
}

#[test]
fn several_input_and_output_parts_are_an_object() {
    let mut wsdl = Wsdl::new().schema(
        &format!("{ELEMENTS}<x:element name='Second' type='x:int'/>"),
        "elementFormDefault='qualified'",
    );
    wsdl.messages = "<message name='In'><part name='p' element='t:In'/><part name='q' element='t:Second'/></message><message name='Out'><part name='p' element='t:Out'/><part name='q' element='t:Second'/></message>".into();
    let read = wsdl.read();
    assert_eq!(
        read.body(&json!({"In": {"a": "1"}, "Second": 2})),
        "<n1:In><n1:a>1</n1:a></n1:In><n1:Second>2</n1:Second>"
    );
    assert_eq!(
        read.json("<t:Out><t:a>1</t:a></t:Out><t:Second>2</t:Second>"),
        (r#"{"Out":{"a":"1"},"Second":2}"#.into(), vec![])
    );
    let rpc = Wsdl::new()
        .rpc(
            "literal",
            "<part name='x' type='x:int'/><part name='y' type='t:M'/>",
            "<part name='sum' type='x:int'/><part name='rest' type='t:M'/>",
        )
        .read();
    assert_eq!(
        rpc.body(&json!({"x": 1, "y": {"a": "b"}})),
        "<n3:Do><x>1</x><y><n2:a>b</n2:a></y></n3:Do>"
    );
    assert_eq!(
        rpc.json(
            "<r:DoResponse xmlns:r='urn:rpc'><sum>3</sum><rest><t:a>b</t:a></rest></r:DoResponse>"
        ),
        (r#"{"sum":3,"rest":{"a":"b"}}"#.into(), vec![])
    );
    // The answer's element may be called anything (SOAP 1.1 §7.1).
    assert_eq!(
        rpc.json("<r:Result xmlns:r='urn:rpc'><sum>3</sum><rest/></r:Result>")
            .0,
        r#"{"sum":3,"rest":{}}"#
    );
}

#[test]
fn empty_inputs_and_outputs() {
    let mut wsdl = Wsdl::new();
    wsdl.messages = "<message name='In'/><message name='Out'/>".into();
    let read = wsdl.read();
    assert_eq!(read.body(&json!({})), "");
    let operation = &read.definition.operations[0];
    assert!(operation.output.is_none() && !operation.one_way);
    assert_eq!(
        read.answer(enveloped("").as_bytes()).unwrap().0,
        Answer::Empty
    );
    let rpc = Wsdl::new().rpc("literal", "", "").read();
    assert_eq!(rpc.body(&json!({})), "<n1:Do></n1:Do>");
    assert_eq!(rpc.json("<r:DoResponse xmlns:r='urn:rpc'/>").0, "{}");
}

#[test]
fn output_only_and_one_way_operations() {
    let mut wsdl = Wsdl::new();
    wsdl.port_type =
        "<portType name='P'><operation name='Do'><input message='t:In'/></operation></portType>"
            .into();
    let read = wsdl.read();
    assert!(read.definition.operations[0].one_way);
    // A one-way call answered by 200 and something all the same.
    let (answer, json, notes) = read.answer(enveloped("<t:Out/>").as_bytes()).unwrap();
    assert_eq!((answer, json.as_str(), notes.len()), (Answer::Empty, "", 1));
    wsdl.port_type =
        "<portType name='P'><operation name='Do'><output message='t:Out'/></operation></portType>"
            .into();
    let read = wsdl.read();
    assert_eq!(read.body(&json!({})), "");
    assert!(
        read.findings()
            .contains("Do takes no input: it is called with an empty body")
    );
}

#[test]
fn a_wrapper_with_attributes_and_an_element_called_like_the_operation_with_a_named_type() {
    let content = "<x:element name='Do' type='t:DoType'/><x:element name='Out' type='t:DoType'/><x:complexType name='DoType'><x:sequence><x:element name='item' type='x:int' maxOccurs='unbounded'/></x:sequence><x:attribute name='version' type='x:string' use='required'/></x:complexType>";
    let mut wsdl = Wsdl::new().schema(content, "elementFormDefault='qualified'");
    wsdl.messages = wsdl.messages.replace("t:In'", "t:Do'");
    let read = wsdl.read();
    assert_eq!(
        read.body(&json!({"version": "2", "item": [1]})),
        "<n1:Do version=\"2\"><n1:item>1</n1:item></n1:Do>"
    );
    assert_eq!(
        read.json("<t:Out version='2'><t:item>1</t:item></t:Out>").0,
        r#"{"version":"2","item":[1]}"#
    );
}

#[test]
fn overloaded_operations_are_told_apart() {
    let mut wsdl = Wsdl::new().schema(
        &format!("{ELEMENTS}<x:element name='ById' type='x:int'/>"),
        "",
    );
    wsdl.messages += "<message name='ById'><part name='p' element='t:ById'/></message>";
    wsdl.port_type = "<portType name='P'><operation name='Do'><input name='All' message='t:In'/><output message='t:Out'/></operation><operation name='Do'><input name='One' message='t:ById'/><output message='t:Out'/></operation></portType>".into();
    wsdl.binding = wsdl.binding.replace(
        BOUND,
        &format!(
            "{}{}",
            BOUND.replacen("<input>", "<input name='All'>", 1),
            BOUND.replacen("<input>", "<input name='One'>", 1)
        ),
    );
    let read = wsdl.read();
    assert_eq!(read.names(), ["Do", "Do.One"]);
    let element = |i: usize| {
        read.definition.operations[i]
            .input
            .as_ref()
            .unwrap()
            .element
            .as_ref()
            .unwrap()
            .local
            .clone()
    };
    assert_eq!((element(0), element(1)), ("In".into(), "ById".into()));
}

#[test]
fn a_string_that_holds_a_document_stays_a_string_and_is_escaped_once() {
    let read = Wsdl::new().read();
    let value = json!({"a": "<doc a=\"1\">&amp; ]]></doc>"});
    assert_eq!(
        read.body(&value),
        "<n1:In><n1:a>&lt;doc a=\"1\"&gt;&amp;amp; ]]&gt;&lt;/doc&gt;</n1:a></n1:In>"
    );
    assert_eq!(
        read.json("<t:Out><t:a>&lt;doc a=\"1\"&gt;&amp;amp; ]]&gt;&lt;/doc&gt;</t:a></t:Out>")
            .0,
        value.to_string()
    );
    assert_eq!(
        read.json("<t:Out><t:a><![CDATA[<doc a=\"1\">&amp; ]]]]><![CDATA[></doc>]]></t:a></t:Out>")
            .0,
        value.to_string()
    );
}

#[test]
fn soap_action_empty_or_absent() {
    for (from, to) in [
        ("soapAction='urn:do'", "soapAction=''"),
        ("<s:operation soapAction='urn:do'/>", ""),
    ] {
        let mut wsdl = Wsdl::new();
        wsdl.binding = wsdl.binding.replace(from, to);
        let read = wsdl.read();
        let envelope = Envelope::new(
            read.plan.clone(),
            &read.definition.operations[0],
            &json!({}),
        )
        .unwrap();
        // SOAP 1.1 §6.1.1: the field must be there.
        assert_eq!(envelope.soap_action.as_deref(), Some("\"\""));
    }
}
