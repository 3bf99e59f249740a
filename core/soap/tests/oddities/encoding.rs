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
