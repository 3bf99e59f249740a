//! Simple types.

use super::*;

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
