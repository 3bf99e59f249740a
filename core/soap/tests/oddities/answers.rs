//! Answers: faults, encodings, attachments, odd places.

use super::*;

#[test]
fn faults_in_all_their_forms() {
    let mut wsdl = Wsdl::new().schema(
        &format!("{ELEMENTS}<x:element name='Full' type='t:M'/>"),
        "elementFormDefault='qualified'",
    );
    wsdl.messages += "<message name='F'><part name='f' element='t:Full'/></message>";
    wsdl.port_type = wsdl.port_type.replace(
        "<output message='t:Out'/>",
        "<output message='t:Out'/><fault name='full' message='t:F'/>",
    );
    let read = wsdl.read();
    let fault = |body: &str| match read.answer(enveloped(body).as_bytes()).unwrap() {
        (Answer::Fault(fault), json, notes) => (fault, json, notes),
        other => panic!("{other:?}"),
    };
    let (found, json, _) = fault(
        "<s:Fault><faultcode>s:Client.Seats</faultcode><faultstring>no seats</faultstring><detail><t:Full><t:a>3</t:a></t:Full></detail></s:Fault>",
    );
    assert_eq!(
        (
            found.code.as_str(),
            found.reason.as_str(),
            found.detail.as_deref(),
            json.as_str(),
            found.is_callers()
        ),
        (
            "Client.Seats",
            "no seats",
            Some("Full"),
            r#"{"a":"3"}"#,
            true
        )
    );
    // One shaped like SOAP 1.2 in an envelope of 1.1, with several languages.
    let (found, ..) = fault(
        "<s:Fault><s:Code><s:Value>s:Receiver</s:Value><s:Subcode><s:Value>t:Closed</s:Value></s:Subcode></s:Code><s:Reason><s:Text xml:lang='de'>zu</s:Text><s:Text xml:lang='en-GB'>closed</s:Text></s:Reason></s:Fault>",
    );
    assert_eq!(
        (
            found.code.as_str(),
            found.subcode.as_str(),
            found.reason.as_str()
        ),
        ("Receiver", "Closed", "closed")
    );
    assert_eq!(
        found.reasons,
        [
            ("de".to_owned(), "zu".to_owned()),
            ("en-GB".to_owned(), "closed".to_owned())
        ]
    );
    // Who found it, on the way: by the names of both versions.
    for body in [
        "<s:Fault><faultcode>s:Server</faultcode><faultstring>x</faultstring><faultactor>urn:broker:west</faultactor></s:Fault>",
        "<s:Fault><s:Code><s:Value>s:Receiver</s:Value></s:Code><s:Reason><s:Text xml:lang='en'>x</s:Text></s:Reason><s:Role> urn:broker:west </s:Role></s:Fault>",
    ] {
        assert_eq!(fault(body).0.actor, "urn:broker:west", "{body}");
    }
    // Without a namespace.
    let (found, _, notes) =
        fault("<Fault><faultcode>Server</faultcode><faultstring>gone</faultstring></Fault>");
    assert_eq!((found.code.as_str(), notes.len()), ("Server", 1));
    // With a detail that nobody declared.
    let (found, json, _) = fault(
        "<s:Fault><faultcode>s:Server</faultcode><faultstring>x</faultstring><detail><o:trace xmlns:o='urn:o' at='1'>y</o:trace></detail></s:Fault>",
    );
    assert_eq!(
        (found.detail, json.as_str()),
        (
            None,
            r##"{"o:trace":{"@xmlns:o":"urn:o","@at":"1","#text":"y"}}"##
        )
    );
}

#[test]
fn several_children_of_the_body_and_lists_in_pieces() {
    let content = "<x:element name='In' type='t:M'/><x:element name='Out' type='t:M'/><x:complexType name='M'><x:sequence><x:element name='n' type='x:int' minOccurs='0' maxOccurs='unbounded'/><x:element name='k' type='x:string' minOccurs='0'/></x:sequence></x:complexType>";
    let read = Wsdl::new().schema(content, "").read();
    let (json, notes) = read.json("<t:Out><n>1</n></t:Out><t:Out><n>2</n></t:Out>");
    assert_eq!(
        (json.as_str(), notes.as_slice()),
        (
            r#"{"n":[1]}"#,
            &["a further <Out> in the body was passed by".to_owned()][..]
        )
    );
    let apart = enveloped("<t:Out><n>1</n><k>x</k><n>2</n></t:Out>");
    assert!(matches!(
        read.answer(apart.as_bytes()),
        Err(AnswerError::Apart(_))
    ));
    let mut reader = read.reader().gathering();
    let mut out = Vec::new();
    reader.feed(apart.as_bytes(), &mut out).unwrap();
    reader.finish(&mut out).unwrap();
    assert_eq!(String::from_utf8(out).unwrap(), r#"{"n":[1,2],"k":"x"}"#);
}

#[test]
fn undeclared_xsi_is_understood_and_told() {
    let read = Wsdl::new().read();
    let answer = b"<s:Envelope xmlns:s='http://schemas.xmlsoap.org/soap/envelope/'><s:Body><Out xmlns='urn:t'><a xsi:nil='true'/></Out></s:Body></s:Envelope>";
    let (_, json, notes) = read.answer(answer).unwrap();
    assert_eq!(
        (json.as_str(), notes[0].as_str()),
        (
            r#"{"a":null}"#,
            "the prefix xsi is used without being declared"
        )
    );
}

#[test]
fn line_ends_in_attributes_are_blanks_unless_they_came_as_references() {
    let content = "<x:element name='In' type='t:M'/><x:element name='Out' type='t:M'/><x:complexType name='M'><x:attribute name='k' type='x:string'/></x:complexType>";
    let read = Wsdl::new().schema(content, "").read();
    assert_eq!(
        read.json("<t:Out k='a\r\nb\tc&#10;d'/>").0,
        r#"{"k":"a b c\nd"}"#
    );
    let generic =
        porch_soap::generic::to_json("<a k='x\ny'/>", &porch_soap::generic::Mapping::default())
            .unwrap();
    assert_eq!(generic, json!({"a": {"@k": "x y"}}));
}

#[test]
fn answers_in_utf_16_iso_8859_1_and_with_a_bom() {
    let read = Wsdl::new().read();
    let text = enveloped("<t:Out><t:a>Fähre</t:a></t:Out>");
    let expected = r#"{"a":"Fähre"}"#;
    let latin: Vec<u8> = format!("<?xml version='1.0' encoding='ISO-8859-1'?>{text}")
        .chars()
        .map(|c| c as u8)
        .collect();
    let utf16 = |big: bool, bom: bool| -> Vec<u8> {
        let text = format!(
            "{}<?xml version='1.0' encoding='utf-16'?>{text}",
            if bom { "\u{feff}" } else { "" }
        );
        text.encode_utf16()
            .flat_map(|u| {
                if big {
                    u.to_be_bytes()
                } else {
                    u.to_le_bytes()
                }
            })
            .collect()
    };
    let bom = format!("\u{feff}{text}").into_bytes();
    for (name, bytes) in [
        ("latin", latin.clone()),
        ("le", utf16(false, true)),
        ("be", utf16(true, true)),
        ("le bare", utf16(false, false)),
        ("be bare", utf16(true, false)),
        ("bom", bom),
    ] {
        for size in [1, 2, 3, 7, 10_000] {
            let mut reader = read.reader();
            let mut out = Vec::new();
            for piece in bytes.chunks(size) {
                reader
                    .feed(piece, &mut out)
                    .unwrap_or_else(|e| panic!("{name} {size}: {e}"));
            }
            reader.finish(&mut out).unwrap();
            assert_eq!(String::from_utf8(out).unwrap(), expected, "{name} {size}");
        }
    }
    // The media type comes before what the document says.
    let mut out = Vec::new();
    let mut reader = read.reader().charset(Some("iso-8859-1"));
    reader
        .feed(
            &latin[latin.iter().position(|b| *b == b'>').unwrap() + 1..],
            &mut out,
        )
        .unwrap();
    reader.finish(&mut out).unwrap();
    assert_eq!(String::from_utf8(out).unwrap(), expected);
    assert_eq!(
        read.answer(&latin[latin.iter().position(|b| *b == b'>').unwrap() + 1..])
            .unwrap_err(),
        AnswerError::Encoding(porch_soap::NotEncoded("UTF-8"))
    );
}

#[test]
fn attachments_stand_where_they_are_referred_to() {
    let content = "<x:element name='In' type='t:M'/><x:element name='Out' type='t:M'/><x:complexType name='M'><x:sequence><x:element name='label' type='x:base64Binary'/><x:element name='ref' type='x:anyURI' minOccurs='0'/></x:sequence></x:complexType>";
    let read = Wsdl::new().schema(content, "").read();
    let parts = || {
        HashMap::from([
            ("a b@x".to_owned(), vec![0, 255, 1]),
            ("c".to_owned(), vec![10]),
        ])
    };
    let json = |body: &str| {
        let mut reader = read.reader().attachments(parts());
        let mut out = Vec::new();
        reader.feed(enveloped(body).as_bytes(), &mut out).unwrap();
        reader.finish(&mut out).unwrap();
        String::from_utf8(out).unwrap()
    };
    assert_eq!(
        json(
            "<t:Out><label><xop:Include xmlns:xop='http://www.w3.org/2004/08/xop/include' href='cid:a%20b@x'/></label></t:Out>"
        ),
        r#"{"label":"AP8B"}"#
    );
    assert_eq!(
        json("<t:Out><label href='cid:c'/><ref>cid:c</ref></t:Out>"),
        r#"{"label":"Cg==","ref":"Cg=="}"#
    );
}

#[test]
fn comments_and_instructions_in_odd_places() {
    let read = Wsdl::new().read();
    let xml = "<?xml version='1.0'?><!-- a --><?p i?>\n<s:Envelope xmlns:s='http://schemas.xmlsoap.org/soap/envelope/'><!-- b --><s:Body ><?p?><Out xmlns = 'urn:t' ><!----><a >x<!-- c -->y<?q?>z</a ></Out></s:Body></s:Envelope><!-- d -->\n";
    assert_eq!(read.answer(xml.as_bytes()).unwrap().1, r#"{"a":"xyz"}"#);
}
