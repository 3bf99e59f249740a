//! Sequences, choices and groups.

use super::*;

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
