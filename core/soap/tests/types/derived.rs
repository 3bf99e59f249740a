//! Types that stand for others.

use super::*;

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
        ["/c/0/litres is not known here"]
    );
    let schemas = schema(&service);
    let item = &schemas["M"]["properties"]["c"]["items"];
    assert_eq!(item, &json!({"$ref": "#/components/schemas/AnyCargo"}));
    let item = &schemas["AnyCargo"];
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
        ["/e/gone is not known here"]
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
fn several_values_in_place_of_one_are_refused_before_they_are_lost() {
    let service = Service::of(
        "<x:sequence><x:element name='one' type='x:anyType'/><x:any minOccurs='0' processContents='lax'/></x:sequence>",
        CARGO,
    );
    for (value, says) in [
        (
            json!({"one": ["a", "b"]}),
            "/one one value is expected, not an array: the schema has one element here",
        ),
        (
            json!({"one": []}),
            "/one one value is expected, not an array: the schema has one element here",
        ),
        (
            json!({"one": "a", "any": [{"k": ["1", "2"]}]}),
            "/any/0/k one element is expected, not several",
        ),
    ] {
        assert_eq!(service.write(&value).unwrap_err(), [says], "{value}");
    }
    // Inside of it there may be as many of a name as one likes.
    assert_eq!(
        service.write(&json!({"one": {"k": ["1", "2"]}})).unwrap(),
        "<n1:In><n1:one><k>1</k><k>2</k></n1:one></n1:In>"
    );
}
