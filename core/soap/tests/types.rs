//! Each row of the table of types, in both directions and in the contract's JSON Schema.

mod common;

use common::Service;
use porch_soap::JsonSchemas;
use serde_json::{Value, json};

const AB: &str = "<x:element name='a' type='x:string'/><x:element name='b' type='x:int'/>";

fn parse(text: &str) -> Value {
    serde_json::from_str(text).unwrap()
}

fn schema(service: &Service) -> Value {
    let mut schemas = JsonSchemas::new(&service.plan);
    schemas.of(service.definition.operations[0]
        .input
        .as_ref()
        .unwrap()
        .type_id);
    Value::Object(schemas.schemas)
}

/// The same value both ways, and the XML in between.
fn both_ways(service: &Service, value: &Value, xml: &str) {
    assert_eq!(service.write(value).unwrap(), xml);
    assert_eq!(service.round_trip(value), *value);
}

#[test]
fn sequence_maxoccurs_is_an_array_for_none_one_and_many() {
    let service = Service::of(
        "<x:sequence><x:element name='n' type='x:int' minOccurs='0' maxOccurs='3'/></x:sequence>",
        "",
    );
    both_ways(&service, &json!({"n": []}), "<n1:In></n1:In>");
    both_ways(
        &service,
        &json!({"n": [1]}),
        "<n1:In><n1:n>1</n1:n></n1:In>",
    );
    assert_eq!(
        service.write(&json!({"n": [1, 2, 3, 4]})).unwrap_err(),
        ["/n 4 items, but at most 3 are allowed"]
    );
    assert_eq!(
        schema(&service)["M"]["properties"]["n"],
        json!({"type": "array", "items": {"type": "integer", "format": "int32", "minimum": -2147483648, "maximum": 2147483647}, "maxItems": 3})
    );
}

#[test]
fn all_takes_its_elements_in_any_order() {
    let service = Service::of(&format!("<x:all>{AB}</x:all>"), "");
    assert_eq!(
        service.read_body("<Out><b>1</b><a>x</a></Out>").unwrap(),
        (r#"{"b":1,"a":"x"}"#.into(), vec![])
    );
    both_ways(
        &service,
        &json!({"a": "x", "b": 1}),
        "<n1:In><n1:a>x</n1:a><n1:b>1</n1:b></n1:In>",
    );
}

#[test]
fn a_repeated_choice_keeps_order_and_grouping() {
    let service = Service::of(
        &format!(
            "<x:sequence><x:element name='id' type='x:int'/><x:choice minOccurs='0' maxOccurs='unbounded'>{AB}</x:choice><x:element name='z' type='x:int'/></x:sequence>"
        ),
        "",
    );
    let value = json!({"id": 1, "choice": [{"a": "x"}, {"b": 2}, {"a": "y"}, {"a": "z"}], "z": 9});
    both_ways(
        &service,
        &value,
        "<n1:In><n1:id>1</n1:id><n1:a>x</n1:a><n1:b>2</n1:b><n1:a>y</n1:a><n1:a>z</n1:a><n1:z>9</n1:z></n1:In>",
    );
    both_ways(
        &service,
        &json!({"id": 1, "choice": [], "z": 9}),
        "<n1:In><n1:id>1</n1:id><n1:z>9</n1:z></n1:In>",
    );
    assert_eq!(
        service
            .write(&json!({"id": 1, "choice": [{"a": "x", "b": 2}], "z": 9}))
            .unwrap_err(),
        ["/choice/0 only one of these may be there: a, b"]
    );
    assert_eq!(
        service
            .write(&json!({"id": 1, "choice": [{}], "z": 9}))
            .unwrap_err(),
        ["/choice/0 one of these must be there: a, b"]
    );
    assert_eq!(service.losses(), Vec::<String>::new());
}

#[test]
fn a_repeated_sequence_keeps_its_grouping() {
    let service = Service::of(
        "<x:sequence maxOccurs='unbounded'><x:element name='k' type='x:string'/><x:element name='v' type='x:int' minOccurs='0' maxOccurs='2'/><x:element name='w' type='x:int' minOccurs='0'/></x:sequence>",
        "",
    );
    let value = json!({"sequence": [{"k": "a", "v": [1, 2]}, {"k": "b", "w": 3, "v": []}, {"k": "c", "v": [4], "w": 5}]});
    assert_eq!(
        service.write(&value).unwrap(),
        "<n1:In><n1:k>a</n1:k><n1:v>1</n1:v><n1:v>2</n1:v><n1:k>b</n1:k><n1:w>3</n1:w><n1:k>c</n1:k><n1:v>4</n1:v><n1:w>5</n1:w></n1:In>"
    );
    assert_eq!(service.round_trip(&value), value);
    assert_eq!(
        service
            .write(&json!({"sequence": [{"v": []}]}))
            .unwrap_err(),
        ["/sequence/0/k must be there"]
    );
}

#[test]
fn a_repeated_group_is_named_by_the_group() {
    let more = format!("<x:group name='Pair'><x:sequence>{AB}</x:sequence></x:group>");
    let service = Service::of(
        "<x:sequence><x:group ref='t:Pair' maxOccurs='2'/></x:sequence>",
        &more,
    );
    both_ways(
        &service,
        &json!({"Pair": [{"a": "x", "b": 1}, {"a": "y", "b": 2}]}),
        "<n1:In><n1:a>x</n1:a><n1:b>1</n1:b><n1:a>y</n1:a><n1:b>2</n1:b></n1:In>",
    );
}

#[test]
fn a_group_in_a_repeated_choice_nests() {
    let service = Service::of(
        &format!(
            "<x:choice maxOccurs='unbounded'><x:element name='note' type='x:string'/><x:sequence maxOccurs='unbounded'>{AB}</x:sequence></x:choice>"
        ),
        "",
    );
    let value = json!({"choice": [{"note": "n"}, {"sequence": [{"a": "x", "b": 1}, {"a": "y", "b": 2}]}, {"note": "m"}]});
    assert_eq!(service.round_trip(&value), value);
}

#[test]
fn a_wrapper_that_only_holds_a_list_is_flattened_and_put_back() {
    let more = "<x:complexType name='List'><x:sequence><x:element name='item' type='x:int' minOccurs='0' maxOccurs='unbounded'/></x:sequence></x:complexType>";
    let service = Service::of(
        "<x:sequence><x:element name='l' type='t:List' minOccurs='0' nillable='true'/></x:sequence>",
        more,
    );
    both_ways(
        &service,
        &json!({"l": [1, 2]}),
        "<n1:In><n1:l><n1:item>1</n1:item><n1:item>2</n1:item></n1:l></n1:In>",
    );
    both_ways(&service, &json!({"l": []}), "<n1:In><n1:l></n1:l></n1:In>");
    both_ways(
        &service,
        &json!({"l": null}),
        "<n1:In><n1:l xsi:nil=\"true\"/></n1:In>",
    );
    both_ways(&service, &json!({}), "<n1:In></n1:In>");
}

#[test]
fn numbers_keep_all_their_digits() {
    let service = Service::of(
        "<x:sequence><x:element name='d' type='x:decimal'/><x:element name='i' type='x:integer'/><x:element name='u' type='x:unsignedLong'/><x:element name='f' type='x:double'/></x:sequence>",
        "",
    );
    let text = r#"{"d":1520.250,"i":12345678901234567890123456789012345678901,"u":18446744073709551615,"f":"NaN"}"#;
    assert_eq!(
        service.write(&parse(text)).unwrap(),
        "<n1:In><n1:d>1520.250</n1:d><n1:i>12345678901234567890123456789012345678901</n1:i><n1:u>18446744073709551615</n1:u><n1:f>NaN</n1:f></n1:In>"
    );
    assert_eq!(service.round_trip(&parse(text)).to_string(), text);
    assert_eq!(
        service
            .read_body("<Out><d>-0</d><i>+7</i><u>007</u><f>-INF</f></Out>")
            .unwrap()
            .0,
        r#"{"d":-0,"i":7,"u":7,"f":"-INF"}"#
    );
    assert_eq!(
        service
            .write(&parse(r#"{"d":1,"i":1,"u":18446744073709551616,"f":0}"#))
            .unwrap_err(),
        ["/u 18446744073709551616 is more than 18446744073709551615"]
    );
}

#[test]
fn a_list_is_an_array_and_a_union_any_of() {
    let more = "<x:simpleType name='L'><x:restriction><x:simpleType><x:list itemType='x:int'/></x:simpleType><x:maxLength value='3'/></x:restriction></x:simpleType>
                <x:simpleType name='Size'><x:restriction base='x:token'><x:enumeration value='small'/><x:enumeration value='large'/></x:restriction></x:simpleType>
                <x:simpleType name='U'><x:union memberTypes='x:int t:Size'/></x:simpleType>";
    let service = Service::of(
        "<x:sequence><x:element name='l' type='t:L'/><x:element name='u' type='t:U'/></x:sequence><x:attribute name='r' type='x:NMTOKENS'/>",
        more,
    );
    both_ways(
        &service,
        &json!({"l": [1, 2], "u": 42, "r": ["x", "y"]}),
        "<n1:In r=\"x y\"><n1:l>1 2</n1:l><n1:u>42</n1:u></n1:In>",
    );
    both_ways(
        &service,
        &json!({"l": [], "u": "large"}),
        "<n1:In><n1:l></n1:l><n1:u>large</n1:u></n1:In>",
    );
    assert_eq!(
        service
            .write(&json!({"l": [1, 2, 3, 4], "u": "huge"}))
            .unwrap_err(),
        [
            "/l 4 characters, but at most 3 are allowed",
            "/u a string fits none of the 2 types that may stand here"
        ]
    );
    // A text is never respelled on its way through a union.
    assert_eq!(
        service
            .read_body("<Out><l> 1  2 </l><u>007</u></Out>")
            .unwrap()
            .0,
        r#"{"l":[1,2],"u":"007"}"#
    );
    let schema = schema(&service);
    assert_eq!(schema["M"]["properties"]["l"]["type"], "array");
    assert_eq!(
        schema["M"]["properties"]["u"]["anyOf"]
            .as_array()
            .unwrap()
            .len(),
        2
    );
}

#[test]
fn white_space_facets_are_kept_apart() {
    let service = Service::of(
        "<x:sequence><x:element name='s' type='x:string'/><x:element name='n' type='x:normalizedString'/><x:element name='t' type='x:token'/></x:sequence>",
        "",
    );
    assert_eq!(
        service
            .read_body("<Out><s> a\n b </s><n> a\n b </n><t> a\n b </t></Out>")
            .unwrap()
            .0,
        r#"{"s":" a\n b ","n":" a  b ","t":"a b"}"#
    );
    assert_eq!(
        service
            .write(&json!({"s": " a\n", "n": "a\tb", "t": "  a   b"}))
            .unwrap(),
        "<n1:In><n1:s> a\n</n1:s><n1:n>a b</n1:n><n1:t>a b</n1:t></n1:In>"
    );
}

#[test]
fn base64_and_hex_are_base64() {
    let service = Service::of(
        "<x:sequence><x:element name='b' type='x:base64Binary'/><x:element name='h' type='x:hexBinary'/></x:sequence>",
        "",
    );
    both_ways(
        &service,
        &json!({"b": "AAEC/w==", "h": "Cv8="}),
        "<n1:In><n1:b>AAEC/w==</n1:b><n1:h>0AFF</n1:h></n1:In>",
    );
}

const CARGO: &str = "<x:complexType name='Cargo'><x:sequence><x:element name='weight' type='x:decimal' nillable='true'/></x:sequence></x:complexType>
    <x:complexType name='Liquid'><x:complexContent><x:extension base='t:Cargo'><x:sequence><x:element name='litres' type='x:int'/></x:sequence><x:attribute name='un' type='x:string'/></x:extension></x:complexContent></x:complexType>
    <x:complexType name='Fuel'><x:complexContent><x:extension base='t:Liquid'><x:sequence><x:element name='octane' type='x:int' minOccurs='0'/></x:sequence></x:extension></x:complexContent></x:complexType>";

#[test]
fn xsi_type_is_a_discriminator() {
    let service = Service::of(
        "<x:sequence><x:element name='c' type='t:Cargo' maxOccurs='unbounded'/></x:sequence>",
        CARGO,
    );
    let value = json!({"c": [{"xsi:type": "Cargo", "weight": null}, {"xsi:type": "Liquid", "weight": 1, "litres": 2, "un": "1203"}, {"xsi:type": "Fuel", "weight": 1, "litres": 3, "octane": 95}]});
    assert_eq!(
        service.write(&value).unwrap(),
        "<n1:In><n1:c><n1:weight xsi:nil=\"true\"/></n1:c><n1:c xsi:type=\"n1:Liquid\" un=\"1203\"><n1:weight>1</n1:weight><n1:litres>2</n1:litres></n1:c><n1:c xsi:type=\"n1:Fuel\"><n1:weight>1</n1:weight><n1:litres>3</n1:litres><n1:octane>95</n1:octane></n1:c></n1:In>"
    );
    assert_eq!(service.round_trip(&value), value);
    // Whoever leaves it out means the declared type.
    assert_eq!(
        service.write(&json!({"c": [{"weight": 5}]})).unwrap(),
        "<n1:In><n1:c><n1:weight>5</n1:weight></n1:c></n1:In>"
    );
    assert_eq!(
        service
            .write(&json!({"c": [{"xsi:type": "Fule", "weight": 5}]}))
            .unwrap_err(),
        ["/c/0/xsi:type “Fule” cannot stand for Cargo; did you mean “Fuel”?"]
    );
    assert_eq!(
        service
            .write(&json!({"c": [{"weight": 5, "litres": 1}]}))
            .unwrap_err(),
        ["/c/0/litres Cargo has no such member"]
    );
    let item = &schema(&service)["M"]["properties"]["c"]["items"];
    assert_eq!(
        item["discriminator"],
        json!({"propertyName": "xsi:type", "mapping": {"Cargo": "#/components/schemas/Cargo", "Fuel": "#/components/schemas/Fuel", "Liquid": "#/components/schemas/Liquid"}})
    );
    assert_eq!(item["oneOf"].as_array().unwrap().len(), 3);
}

#[test]
fn xsi_type_may_use_any_prefix_and_unknown_ones_are_noted() {
    let service = Service::of(
        "<x:sequence><x:element name='c' type='t:Cargo'/></x:sequence>",
        CARGO,
    );
    assert_eq!(service.read_body("<Out><c xmlns:q='urn:t' i:type='q:Liquid'><weight>1</weight><litres>2</litres></c></Out>").unwrap().0, r#"{"c":{"xsi:type":"Liquid","weight":1,"litres":2}}"#);
    let (json, notes) = service
        .read_body("<Out><c i:type='n:Strange'><weight>1</weight></c></Out>")
        .unwrap();
    assert_eq!(
        (json.as_str(), notes.len()),
        (r#"{"c":{"xsi:type":"Cargo","weight":1}}"#, 1),
        "{notes:?}"
    );
}

#[test]
fn an_abstract_type_must_be_named() {
    let service = Service::of(
        "<x:sequence><x:element name='c' type='t:Cargo'/></x:sequence>",
        &CARGO.replace("name='Cargo'", "name='Cargo' abstract='true'"),
    );
    assert_eq!(
        service.write(&json!({"c": {"weight": 5}})).unwrap_err(),
        ["/c/xsi:type must be there and name one of Fuel, Liquid"]
    );
    let value = json!({"c": {"xsi:type": "Liquid", "weight": 1, "litres": 2}});
    assert_eq!(service.round_trip(&value), value);
}

const SHAPES: &str = "<x:element name='Load' type='x:string' abstract='true'/><x:element name='Pallet' type='x:string' substitutionGroup='t:Load'/><x:element name='Box' substitutionGroup='t:Load'/>";

#[test]
fn a_substitution_group_is_a_choice_of_its_elements() {
    let service = Service::of("<x:sequence><x:element ref='t:Load'/></x:sequence>", SHAPES);
    both_ways(
        &service,
        &json!({"Pallet": "p"}),
        "<n1:In><n1:Pallet>p</n1:Pallet></n1:In>",
    );
    // Without a type of its own, an element has that of its head.
    both_ways(
        &service,
        &json!({"Box": "b"}),
        "<n1:In><n1:Box>b</n1:Box></n1:In>",
    );
    assert_eq!(
        service.write(&json!({})).unwrap_err(),
        [" one of these must be there: Box, Pallet"]
    );
    let service = Service::of(
        "<x:sequence><x:element ref='t:Load' minOccurs='0' maxOccurs='unbounded'/></x:sequence>",
        SHAPES,
    );
    both_ways(
        &service,
        &json!({"Load": [{"Pallet": "p"}, {"Box": "b"}, {"Pallet": "q"}]}),
        "<n1:In><n1:Pallet>p</n1:Pallet><n1:Box>b</n1:Box><n1:Pallet>q</n1:Pallet></n1:In>",
    );
}

#[test]
fn a_restriction_has_the_elements_it_says_and_the_attributes_it_inherits() {
    let more = "<x:complexType name='Base'><x:sequence><x:element name='a' type='x:string'/><x:element name='b' type='x:string' minOccurs='0'/></x:sequence><x:attribute name='k' type='x:int'/><x:attribute name='gone' type='x:int'/></x:complexType>
                <x:complexType name='Less'><x:complexContent><x:restriction base='t:Base'><x:sequence><x:element name='a' type='x:string'/></x:sequence><x:attribute name='gone' use='prohibited'/></x:restriction></x:complexContent></x:complexType>";
    let service = Service::of(
        "<x:sequence><x:element name='e' type='t:Less'/></x:sequence>",
        more,
    );
    both_ways(
        &service,
        &json!({"e": {"a": "x", "k": 1}}),
        "<n1:In><n1:e k=\"1\"><n1:a>x</n1:a></n1:e></n1:In>",
    );
    assert_eq!(
        service
            .write(&json!({"e": {"a": "x", "gone": 1}}))
            .unwrap_err(),
        ["/e/gone Less has no such member"]
    );
}

#[test]
fn any_elements_and_attributes_are_carried_in_the_generic_mapping() {
    let service = Service::of(
        &format!(
            "<x:sequence>{AB}<x:any minOccurs='0' maxOccurs='unbounded' processContents='lax'/></x:sequence><x:anyAttribute/>"
        ),
        "",
    );
    let (json, notes) = service.read_body("<Out xmlns:o='urn:o' o:k='1' plain='2'><a>x</a><b>1</b><o:more><o:x y='1'>t</o:x><o:x y='2'/></o:more><n:own>5</n:own></Out>").unwrap();
    assert_eq!(notes, Vec::<String>::new());
    assert_eq!(
        parse(&json),
        json!({"anyAttribute": {"xmlns:o": "urn:o", "o:k": "1", "plain": "2"}, "a": "x", "b": 1,
            "any": [{"o:more": {"@xmlns:o": "urn:o", "o:x": [{"@y": "1", "#text": "t"}, {"@y": "2"}]}}, {"n:own": {"@xmlns:n": "urn:t", "#text": "5"}}]})
    );
    assert_eq!(service.round_trip(&parse(&json)), parse(&json));
    assert_eq!(
        service
            .write(&json!({"a": "x", "b": 1, "any": ["text"]}))
            .unwrap_err(),
        ["/any/0 an object with one member, the element's name, is expected"]
    );
    assert_eq!(
        service
            .write(&json!({"a": "x", "b": 1, "anyAttribute": {"p:k": "1"}}))
            .unwrap_err(),
        ["/anyAttribute/p:k its prefix is not declared: add the member “xmlns:p”"]
    );
}

#[test]
fn any_type_is_generic_or_named() {
    let service = Service::of(
        "<x:sequence><x:element name='v' type='x:anyType' maxOccurs='unbounded' nillable='true'/></x:sequence>",
        CARGO,
    );
    let value = json!({"v": ["text", {"xsi:type": "int", "value": 5}, {"xsi:type": "Liquid", "weight": 1, "litres": 2}, {"k": "v", "l": ["1", "2"]}, null]});
    assert_eq!(
        service.write(&value).unwrap(),
        "<n1:In><n1:v>text</n1:v><n1:v xsi:type=\"xsd:int\">5</n1:v><n1:v xsi:type=\"n1:Liquid\"><n1:weight>1</n1:weight><n1:litres>2</n1:litres></n1:v><n1:v><k>v</k><l>1</l><l>2</l></n1:v><n1:v xsi:nil=\"true\"/></n1:In>"
    );
    let (json, notes) = service
        .read_body("<Out xmlns:xsd='http://www.w3.org/2001/XMLSchema'><v>text</v><v i:type='xsd:int'>5</v><v i:type='n:Liquid'><weight>1</weight><litres>2</litres></v><v><k xmlns=''>v</k><l xmlns=''>1</l><l xmlns=''>2</l></v><v i:nil='true'/></Out>")
        .unwrap();
    assert_eq!((parse(&json), notes), (value, vec![]));
    assert_eq!(
        service
            .write(&json!({"v": [{"xsi:type": "Liquit"}]}))
            .unwrap_err(),
        ["/v/0/xsi:type there is no type “Liquit”; did you mean “Liquid”?"]
    );
}

#[test]
fn mixed_content_keeps_text_and_order() {
    let service = Service::of(
        "<x:sequence><x:element name='m'><x:complexType mixed='true'><x:choice minOccurs='0' maxOccurs='unbounded'><x:element name='b' type='x:string'/></x:choice></x:complexType></x:element></x:sequence>",
        "",
    );
    let (json, _) = service
        .read_body("<n:Out><n:m>swell <n:b>2 m</n:b>, wind <n:b>W</n:b>.</n:m></n:Out>")
        .unwrap();
    let value = parse(&json);
    assert_eq!(
        value,
        json!({"m": {"#content": ["swell ", {"n:b": {"@xmlns:n": "urn:t", "#text": "2 m"}}, ", wind ", {"n:b": {"@xmlns:n": "urn:t", "#text": "W"}}, "."]}})
    );
    assert_eq!(service.round_trip(&value), value);
}

#[test]
fn default_and_fixed_values() {
    let service = Service::of(
        "<x:sequence><x:element name='d' type='x:int' default='5'/><x:element name='f' type='x:string' fixed='F'/></x:sequence><x:attribute name='v' type='x:string' fixed='2' use='required'/><x:attribute name='o' type='x:int' default='7'/>",
        "",
    );
    // What must be there and was not said is written as the schema says it.
    assert_eq!(
        service.write(&json!({})).unwrap(),
        "<n1:In v=\"2\"><n1:d>5</n1:d><n1:f>F</n1:f></n1:In>"
    );
    assert_eq!(
        service.write(&json!({"f": "G", "v": "3"})).unwrap_err(),
        [
            "/v “3” is not what the schema fixes: “2”",
            "/f “G” is not what the schema fixes: “F”"
        ]
    );
    // An empty element has its default, an absent attribute too.
    assert_eq!(
        parse(
            &service
                .read_body("<Out v='2'><d/><f>F</f></Out>")
                .unwrap()
                .0
        ),
        json!({"v": "2", "d": 5, "f": "F", "o": 7})
    );
    assert_eq!(schema(&service)["M"]["properties"]["d"]["default"], 5);
    assert_eq!(schema(&service)["M"]["properties"]["f"]["const"], "F");
}

#[test]
fn a_choice_of_sequences_that_share_an_element() {
    let service = Service::of(
        "<x:choice><x:sequence><x:element name='code' type='x:string'/><x:element name='route' type='x:string'/></x:sequence><x:sequence><x:element name='name' type='x:string'/><x:element name='code' type='x:string'/></x:sequence></x:choice>",
        "",
    );
    both_ways(
        &service,
        &json!({"code": "c", "route": "r"}),
        "<n1:In><n1:code>c</n1:code><n1:route>r</n1:route></n1:In>",
    );
    both_ways(
        &service,
        &json!({"name": "n", "code": "c"}),
        "<n1:In><n1:name>n</n1:name><n1:code>c</n1:code></n1:In>",
    );
    assert_eq!(
        service.write(&json!({"code": "c"})).unwrap_err(),
        ["/route must be there"]
    );
    assert_eq!(
        service
            .write(&json!({"name": "n", "route": "r"}))
            .unwrap_err(),
        [" only one of these may be there: code, route, name, code"]
    );
}

#[test]
fn one_element_at_two_places_of_a_sequence() {
    let service = Service::of(
        "<x:sequence><x:element name='a' type='x:int'/><x:element name='b' type='x:int' minOccurs='0'/><x:element name='a' type='x:int' minOccurs='0'/></x:sequence>",
        "",
    );
    both_ways(
        &service,
        &json!({"a": 1, "b": 2, "a_2": 3}),
        "<n1:In><n1:a>1</n1:a><n1:b>2</n1:b><n1:a>3</n1:a></n1:In>",
    );
    both_ways(
        &service,
        &json!({"a": 1, "a_2": 3}),
        "<n1:In><n1:a>1</n1:a><n1:a>3</n1:a></n1:In>",
    );
}

#[test]
fn choices_are_in_the_contract() {
    let service = Service::of(
        "<x:sequence><x:choice><x:element name='card' type='x:string'/><x:sequence><x:element name='bank' type='x:string'/><x:element name='account' type='x:string' minOccurs='0'/></x:sequence></x:choice></x:sequence>",
        "",
    );
    let schema = &schema(&service)["M"];
    assert_eq!(
        schema["oneOf"],
        json!([{"required": ["card"]}, {"required": ["bank"]}])
    );
    assert_eq!(schema.get("required"), None);
}

#[test]
fn names_with_dots_hyphens_and_letters_beyond_ascii() {
    let service = Service::of(
        "<x:sequence><x:element name='fähr.preis-netto' type='x:decimal'/><x:element name='ID' type='x:string'/><x:element name='id' type='x:string'/></x:sequence>",
        "",
    );
    both_ways(
        &service,
        &parse(r#"{"fähr.preis-netto": 1.50, "ID": "A", "id": "b"}"#),
        "<n1:In><n1:fähr.preis-netto>1.50</n1:fähr.preis-netto><n1:ID>A</n1:ID><n1:id>b</n1:id></n1:In>",
    );
}

#[test]
fn xml_lang_is_an_attribute_that_everybody_knows() {
    let more = "<x:complexType name='Text'><x:simpleContent><x:extension base='x:string'><x:attribute ref='xml:lang'/></x:extension></x:simpleContent></x:complexType>";
    let service = Service::of(
        "<x:sequence><x:element name='t' type='t:Text'/></x:sequence>",
        more,
    );
    both_ways(
        &service,
        &json!({"t": {"lang": "en", "value": "swell"}}),
        "<n1:In><n1:t xml:lang=\"en\">swell</n1:t></n1:In>",
    );
}

#[test]
fn redefined_types_are_made_from_what_they_replace() {
    let more = "<x:redefine schemaLocation='base.xsd'><x:complexType name='P'><x:complexContent><x:extension base='t:P'><x:sequence><x:element name='more' type='x:int'/></x:sequence></x:extension></x:complexContent></x:complexType></x:redefine>";
    let main = common::wsdl(
        &format!("{more}<x:element name='In' type='t:P'/><x:element name='Out' type='t:P'/>"),
        "qualified",
    );
    let base = "<x:schema xmlns:x='http://www.w3.org/2001/XMLSchema' targetNamespace='urn:t' elementFormDefault='qualified'><x:complexType name='P'><x:sequence><x:element name='first' type='x:int'/></x:sequence></x:complexType></x:schema>";
    let service = Service::read(&porch_soap::Files::from([
        ("m".to_owned(), main),
        ("base.xsd".to_owned(), base.to_owned()),
    ]));
    both_ways(
        &service,
        &json!({"first": 1, "more": 2}),
        "<n1:In><n1:first>1</n1:first><n1:more>2</n1:more></n1:In>",
    );
}

#[test]
fn keys_that_must_be_unique_are_reported() {
    let service = Service::of(
        "<x:sequence><x:element name='l' type='t:L'><x:unique name='u'><x:selector xpath='t:i'/><x:field xpath='.'/></x:unique></x:element></x:sequence>",
        "<x:complexType name='L'><x:sequence><x:element name='i' type='x:int' maxOccurs='9'/></x:sequence></x:complexType>",
    );
    assert!(
        service.losses()[0].contains("xsd:unique"),
        "{:?}",
        service.losses()
    );
}

#[test]
fn patterns_of_xml_schema_are_those_of_json_schema() {
    let more = r"<x:simpleType name='N'><x:restriction base='x:string'><x:pattern value='\i\c*$'/></x:restriction></x:simpleType><x:simpleType name='C'><x:restriction base='x:string'><x:pattern value='[a-z-[aeiou]]+'/></x:restriction></x:simpleType>";
    let service = Service::of(
        "<x:sequence><x:element name='n' type='t:N'/><x:element name='c' type='t:C'/></x:sequence>",
        more,
    );
    assert!(service.write(&json!({"n": "a-1$", "c": "bcd"})).is_ok());
    assert_eq!(
        service
            .write(&json!({"n": "a-1", "c": "abc"}))
            .unwrap_err()
            .len(),
        2
    );
}
