//! SOAP's own encoding (SOAP 1.1 §5).

use super::*;

pub(crate) const ENCODED_TYPES: &str = "<x:complexType name='Leg'><x:sequence><x:element name='from' type='x:string'/><x:element name='next' type='t:Leg' nillable='true'/></x:sequence></x:complexType>
    <x:complexType name='Legs'><x:complexContent><x:restriction base='enc:Array'><x:attribute ref='enc:arrayType' w:arrayType='t:Leg[]'/></x:restriction></x:complexContent></x:complexType>
    <x:complexType name='Names'><x:complexContent><x:restriction base='enc:Array'><x:sequence><x:element name='name' type='x:string' minOccurs='0' maxOccurs='unbounded'/></x:sequence></x:restriction></x:complexContent></x:complexType>
    <x:complexType name='Grid'><x:complexContent><x:restriction base='enc:Array'><x:attribute ref='enc:arrayType' w:arrayType='x:int[][]'/></x:restriction></x:complexContent></x:complexType>";

pub(crate) fn encoded_service() -> Read {
    Wsdl::new()
        .schema(ENCODED_TYPES, "")
        .rpc("encoded", "<part name='n' type='x:int'/><part name='names' type='t:Names'/>", "<part name='legs' type='t:Legs'/><part name='names' type='t:Names'/><part name='grid' type='t:Grid'/>")
        .read()
}

#[test]
fn rpc_encoded_says_the_types_and_sizes() {
    let read = encoded_service();
    assert_eq!(read.definition.operations[0].style, "rpc/encoded");
    let body = read.body(&json!({"n": 5, "names": ["a", "b"]}));
    assert!(
        body.contains("soap:encodingStyle=\"http://schemas.xmlsoap.org/soap/encoding/\""),
        "{body}"
    );
    assert!(
        body.contains(":int\">5</n><names xsi:type=\"enc:Array\" enc:arrayType=\"")
            && body.contains(":string[2]\"><name xsi:type=\""),
        "{body}"
    );
    assert!(body.contains(":string\">a</name><name"), "{body}");
    assert!(
        read.body(&json!({"n": null}))
            .contains("<n xsi:nil=\"true\"/>")
    );
}

#[test]
fn shared_values_as_href_and_id_beside_the_answer() {
    let read = encoded_service();
    let xml = enveloped(
        "<r:DoResponse xmlns:r='urn:rpc' s:encodingStyle='http://schemas.xmlsoap.org/soap/encoding/'><legs href='#id0'/><names xsi:type='enc:Array' enc:arrayType='xsd:string[2]'><item>a</item><item xsi:nil='true'/></names><grid enc:arrayType='xsd:int[][2]'><i enc:arrayType='xsd:int[2]'><i>1</i><i>2</i></i><i/></grid></r:DoResponse>
         <multiRef id='id0' enc:root='0' xsi:type='enc:Array' enc:arrayType='t:Leg[2]'><x href='#id1'/><x href='#id2'/></multiRef>
         <multiRef id='id1' enc:root='0' xsi:type='t:Leg'><from xsi:type='xsd:string'>Farholt</from><next href='#id2'/></multiRef>
         <multiRef id='id2' enc:root='0' xsi:type='ns1:Leg' xmlns:ns1='urn:t'><from href='#id3'/><next xsi:nil='1'/></multiRef>
         <multiRef id='id3'>Maren &amp; Quay</multiRef>",
    );
    let inlined = encoded::inline(&xml).unwrap().unwrap();
    let (answer, json, notes) = read.answer(inlined.as_bytes()).unwrap();
    assert_eq!((answer, notes), (Answer::Body, vec![]), "{inlined}");
    let quay = r#"{"from":"Maren & Quay","next":null}"#;
    assert_eq!(
        json,
        format!(
            r#"{{"legs":[{{"from":"Farholt","next":{quay}}},{quay}],"names":["a",null],"grid":[[1,2],[]]}}"#
        )
    );
    assert_eq!(encoded::inline(&enveloped("<x/>")).unwrap(), None);
    let circle =
        enveloped("<r/><m id='a'><next href='#a'/></m>").replace("<r/>", "<r><x href='#a'/></r>");
    assert!(
        encoded::inline(&circle)
            .unwrap_err()
            .to_string()
            .contains("which refers back to it")
    );
    assert!(
        encoded::inline(&enveloped("<r><x href='#lost'/></r>"))
            .unwrap_err()
            .to_string()
            .contains("which is not there")
    );
    // Sixteen references to sixteen references …: growth is bounded.
    let mut bomb = String::from("<r><x href='#m0'/></r>");
    for i in 0..12 {
        bomb += &format!(
            "<m id='m{i}'>{}</m>",
            format!("<y href='#m{}'/>", i + 1).repeat(16)
        );
    }
    bomb += "<m id='m12'>boom</m>";
    assert!(
        encoded::inline(&enveloped(&bomb))
            .unwrap_err()
            .to_string()
            .contains("larger than")
    );
}

#[test]
fn arrays_with_elements_of_any_name() {
    let read = encoded_service();
    let (json, _) = read.json("<r:DoResponse xmlns:r='urn:rpc'><legs/><names><item>a</item><xsd:string>b</xsd:string></names><grid/></r:DoResponse>");
    assert_eq!(json, r#"{"legs":[],"names":["a","b"],"grid":[]}"#);
}

#[test]
fn values_of_any_type_say_what_they_are_and_come_as_json_has_them() {
    let read = Wsdl::new()
        .schema(ENCODED_TYPES, "")
        .rpc(
            "encoded",
            "<part name='v' type='x:anyType'/>",
            "<part name='v' type='x:anyType'/>",
        )
        .read();
    // Without its type, a server reads 5 as a text.
    for (value, wanted) in [
        (json!(5), "<v xsi:type=\"xsd:int\">5</v>"),
        (
            json!(5_000_000_000u64),
            "<v xsi:type=\"xsd:long\">5000000000</v>",
        ),
        (json!(5.5), "<v xsi:type=\"xsd:decimal\">5.5</v>"),
        (json!(true), "<v xsi:type=\"xsd:boolean\">true</v>"),
        (json!("a<b"), "<v xsi:type=\"xsd:string\">a&lt;b</v>"),
        (
            json!([1, "x", [], null]),
            "<v xsi:type=\"enc:Array\" enc:arrayType=\"xsd:anyType[4]\"><item xsi:type=\"xsd:int\">1</item><item xsi:type=\"xsd:string\">x</item><item xsi:type=\"enc:Array\" enc:arrayType=\"xsd:anyType[0]\"></item><item xsi:nil=\"true\"/></v>",
        ),
        (
            json!({"berth": 4, "note": {"xsi:type": "date", "value": "2027-05-14"}}),
            "<v><berth xsi:type=\"xsd:int\">4</berth><note xsi:type=\"xsd:date\">2027-05-14</note></v>",
        ),
    ] {
        let body = read.body(&json!({ "v": value }));
        assert!(body.contains(wanted), "{value}: {body}");
    }
    let mistakes = read.envelope(&json!({"v": [{"a b": 1}]})).unwrap_err();
    assert_eq!(mistakes, ["/v/0/a b is no name that an element can have"]);
    for (xml, wanted) in [
        ("<v xsi:type='xsd:int'>5</v>", "5"),
        ("<v xsi:type='xsd:string'>5</v>", "\"5\""),
        (
            "<v xsi:type='xsd:date'>2027-05-14</v>",
            r#"{"xsi:type":"date","value":"2027-05-14"}"#,
        ),
        (
            "<v xsi:type='enc:Array' enc:arrayType='xsd:int[2]'><i>1</i><j>2</j></v>",
            "[1,2]",
        ),
        (
            "<v xsi:type='enc:Array' enc:arrayType='xsd:anyType[3]'><i xsi:type='xsd:boolean'>1</i><i xsi:nil='true'/><i xsi:type='t:Leg' xmlns:t='urn:t'><from>Farholt</from></i></v>",
            r#"[true,null,{"xsi:type":"Leg","from":"Farholt"}]"#,
        ),
        (
            "<v xsi:type='m:Map' xmlns:m='urn:map'><item><key xsi:type='xsd:string'>berth</key><value xsi:type='xsd:int'>4</value></item><item><key>quay</key><value xsi:type='enc:Array' enc:arrayType='xsd:string[1]'><k>north</k></value></item></v>",
            r#"{"berth":4,"quay":["north"]}"#,
        ),
        (
            "<v><berth xsi:type='xsd:int'>4</berth></v>",
            r#"{"berth":4}"#,
        ),
    ] {
        let (json, _) = read.json(&format!(
            "<r:DoResponse xmlns:r='urn:rpc'>{xml}</r:DoResponse>"
        ));
        assert_eq!(json, format!(r#"{{"v":{wanted}}}"#), "{xml}");
    }
}

#[test]
fn the_wrapper_has_the_namespace_that_its_body_names_and_none_else() {
    let with = Wsdl::new().rpc(
        "literal",
        "<part name='n' type='x:int'/>",
        "<part name='n' type='x:int'/>",
    );
    assert!(with.read().body(&json!({"n": 5})).contains(":Do><n>5</n>"));
    let mut without = with;
    without.binding = without.binding.replace(" namespace='urn:rpc'", "");
    let read = without.read();
    assert_eq!(read.body(&json!({"n": 5})), "<Do><n>5</n></Do>");
    assert!(
        read.findings()
            .contains("the wrapper <Do> of Do has no namespace"),
        "{}",
        read.findings()
    );
    // Answers are taken in either form.
    for answer in [
        "<DoResponse><n>5</n></DoResponse>",
        "<r:DoResponse xmlns:r='urn:t'><n>5</n></r:DoResponse>",
    ] {
        assert_eq!(read.json(answer).0, r#"{"n":5}"#);
    }
}
