//! Metadata of all versions: what becomes of it, and what is told where it is odd.
#![allow(
    clippy::too_many_lines,
    reason = "a scenario, or a table of cases, is told in one piece"
)]

use porch_contract::Severity;
use porch_odata::{Service, is_metadata, read};
use serde_json::{Value, json};

fn four(schema: &str) -> String {
    format!(
        r#"<?xml version="1.0"?><edmx:Edmx Version="4.01" xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx">
<edmx:DataServices><Schema Namespace="Skerry" Alias="Self" xmlns="http://docs.oasis-open.org/odata/ns/edm">
{schema}
</Schema></edmx:DataServices></edmx:Edmx>"#
    )
}

fn service(text: &str) -> Service {
    assert!(is_metadata(text));
    read(
        text,
        "stores.xml",
        "http://stores.example/odata/$metadata?x=1",
    )
    .unwrap()
}

fn document(service: &Service) -> Value {
    serde_json::from_str(&service.description).unwrap()
}

const HARBOURS: &str = r#"
<EnumType Name="Kind" IsFlags="true"><Member Name="Quay"/><Member Name="Pier"/></EnumType>
<EnumType Name="State"><Member Name="Open"/><Member Name="Closed"/></EnumType>
<TypeDefinition Name="Code" UnderlyingType="Edm.String"/>
<ComplexType Name="Position"><Property Name="Lat" Type="Edm.Double" Nullable="false"/></ComplexType>
<EntityType Name="Place" Abstract="true"><Key><PropertyRef Name="Code"/></Key>
  <Property Name="Code" Type="Self.Code" Nullable="false"/>
  <Property Name="Name" Type="Edm.String" Nullable="false" MaxLength="40"/></EntityType>
<EntityType Name="Harbour" BaseType="Self.Place" HasStream="true">
  <Property Name="At" Type="Self.Position"/><Property Name="Kinds" Type="Self.Kind"/>
  <Property Name="Tags" Type="Collection(Edm.String)" Nullable="false"/>
  <Property Name="Depth" Type="Edm.Int64"/>
  <NavigationProperty Name="Berths" Type="Collection(Self.Berth)"/>
  <NavigationProperty Name="Next" Type="Self.Harbour"/></EntityType>
<EntityType Name="Berth"><Key><PropertyRef Name="Id"/></Key><Property Name="Id" Type="Edm.Guid" Nullable="false"/>
  <Property Name="Since" Type="Edm.Date"/></EntityType>
<EntityType Name="Watch"><Key><PropertyRef Name="State"/><PropertyRef Name="On"/></Key>
  <Property Name="State" Type="Self.State" Nullable="false"/><Property Name="On" Type="Edm.Date" Nullable="false"/></EntityType>
<EntityType Name="Loose"><Property Name="Note" Type="Elsewhere.Note"/></EntityType>
<Function Name="nearest" IsBound="true"><Parameter Name="to" Type="Self.Place"/><Parameter Name="name" Type="Edm.String"/>
  <Parameter Name="within" Type="Edm.Int32"><Annotation Term="Org.OData.Core.V1.OptionalParameter"/></Parameter>
  <ReturnType Type="Self.Harbour"/></Function>
<Function Name="open" IsBound="true"><Parameter Name="all" Type="Collection(Self.Harbour)"/><ReturnType Type="Collection(Self.Harbour)"/></Function>
<Function Name="count"><ReturnType Type="Edm.Int32" Nullable="false"/></Function>
<Function Name="count"><Parameter Name="kind" Type="Self.State"/><ReturnType Type="Edm.Int32" Nullable="false"/></Function>
<Function Name="shapes"><Parameter Name="of" Type="Self.Position"/><ReturnType Type="Edm.Int32"/></Function>
<Action Name="close" IsBound="true"><Parameter Name="it" Type="Self.Harbour"/><Parameter Name="Why" Type="Edm.String" Nullable="false"/></Action>
<EntityContainer Name="Charts">
  <EntitySet Name="Harbours" EntityType="Self.Harbour"/><EntitySet Name="Berths" EntityType="Self.Berth"/>
  <EntitySet Name="Spare" EntityType="Self.Berth"/><EntitySet Name="Watches" EntityType="Self.Watch"/>
  <EntitySet Name="Loose" EntityType="Self.Loose"/><EntitySet Name="Lost" EntityType="Self.Gone"/>
  <Singleton Name="Home" Type="Self.Harbour"/>
  <FunctionImport Name="count" Function="Self.count"/><FunctionImport Name="shapes" Function="Self.shapes"/>
  <ActionImport Name="reset" Action="Self.reset"/>
</EntityContainer>
"#;

#[test]
fn sets_keys_links_functions_and_actions_become_operations() {
    let service = service(&four(HARBOURS));
    assert_eq!(service.standard, "OData 4.01");
    let document = document(&service);
    assert_eq!(document["servers"][0]["url"], "http://stores.example/odata");
    let calls: Vec<String> = service
        .calls
        .iter()
        .map(|(id, c)| format!("{id}: {} {}", c.method, c.path))
        .collect();
    assert_eq!(
        calls,
        [
            "listHarbours: GET /Harbours",
            "createHarbour: POST /Harbours",
            "openHarbours: GET /Harbours/Skerry.open()",
            "getHarbour: GET /Harbours('{code}')",
            "updateHarbour: PATCH /Harbours('{code}')",
            "deleteHarbour: DELETE /Harbours('{code}')",
            "getHarbourContent: GET /Harbours('{code}')/$value",
            "listHarbourBerths: GET /Harbours('{code}')/Berths",
            "getHarbourNext: GET /Harbours('{code}')/Next",
            "nearestHarbour: GET /Harbours('{code}')/Skerry.nearest(name='{name}')",
            "closeHarbour: POST /Harbours('{code}')/Skerry.close",
            "listBerths: GET /Berths",
            "createBerthsItem: POST /Berths",
            "getBerthsItem: GET /Berths({id})",
            "updateBerthsItem: PATCH /Berths({id})",
            "deleteBerthsItem: DELETE /Berths({id})",
            "listSpare: GET /Spare",
            "createSpareItem: POST /Spare",
            "getSpareItem: GET /Spare({id})",
            "updateSpareItem: PATCH /Spare({id})",
            "deleteSpareItem: DELETE /Spare({id})",
            "listWatches: GET /Watches",
            "createWatch: POST /Watches",
            "getWatch: GET /Watches(State=Skerry.State'{state}',On={on})",
            "updateWatch: PATCH /Watches(State=Skerry.State'{state}',On={on})",
            "deleteWatch: DELETE /Watches(State=Skerry.State'{state}',On={on})",
            "listLoose: GET /Loose",
            "createLoose: POST /Loose",
            "getHome: GET /Home",
            "updateHome: PATCH /Home",
            "getHomeContent: GET /Home/$value",
            "listHomeBerths: GET /Home/Berths",
            "getHomeNext: GET /Home/Next",
            "nearestHome: GET /Home/Skerry.nearest(name='{name}')",
            "closeHome: POST /Home/Skerry.close",
            "count: GET /count()",
            "count2: GET /count(kind=Skerry.State'{kind}')",
        ]
    );
    let nearest = &service.calls["nearestHarbour"].send;
    assert_eq!(
        nearest["path"],
        json!({ "code": r#"=path.code.replace("'", "''")"#, "name": r#"=query.name.replace("'", "''")"# })
    );
    let told: Vec<&str> = service
        .findings
        .iter()
        .map(|f| f.message.as_str())
        .collect();
    for part in [
        "the key of “Loose” cannot be written in an address",
        "“Lost” is of the type “Skerry.Gone”, which is not there",
        "“reset” offers “Skerry.reset”, which is not there",
        "parameters of “shapes” cannot be written in an address",
        "“nearest” is called without what may be left out: within",
        "nothing says what “Elsewhere.Note” is",
    ] {
        assert!(told.iter().any(|t| t.contains(part)), "{part}: {told:#?}");
    }
    // Both times: for the harbours and for the one at home.
    assert_eq!(told.len(), 7, "{told:#?}");
    let lost = service.findings.iter().find(|f| f.message.contains("Lost"));
    assert!(lost.is_some_and(|f| f.line > 20 && f.column > 1 && f.severity == Severity::Warning));
    let paths = document["paths"].as_object().unwrap();
    assert!(
        paths.contains_key("/count") && paths.contains_key("/countByKind"),
        "{paths:?}"
    );
    let schemas = &document["components"]["schemas"];
    assert_eq!(
        schemas["Harbour"]["allOf"],
        json!([{ "$ref": "#/components/schemas/Place" }])
    );
    assert_eq!(
        schemas["Place"]["properties"]["Name"],
        json!({ "type": "string", "maxLength": 40 })
    );
    assert_eq!(
        schemas["Harbour"]["properties"]["Depth"]["type"],
        json!(["integer", "null"])
    );
    let body = &document["paths"]["/Harbours"]["post"]["requestBody"]["content"]["application/json"]
        ["schema"];
    assert_eq!(body["allOf"][1], json!({ "required": ["Name"] }));
}

const OLDER: &str = r#"<edmx:Edmx Version="1.0" xmlns:edmx="http://schemas.microsoft.com/ado/2007/06/edmx">
<edmx:DataServices m:DataServiceVersion="1.0" m:MaxDataServiceVersion="2.0" xmlns:m="http://schemas.microsoft.com/ado/2007/08/dataservices/metadata">
<Schema Namespace="Skerry" xmlns="http://schemas.microsoft.com/ado/2008/09/edm">
<EntityType Name="Trip"><Documentation><Summary>One trip.</Summary></Documentation>
  <Key><PropertyRef Name="Number"/><PropertyRef Name="On"/></Key>
  <Property Name="Number" Type="Edm.Int64" Nullable="false"/><Property Name="On" Type="Edm.DateTime" Nullable="false"/>
  <Property Name="Fare" Type="Edm.Decimal" Nullable="false"/>
  <NavigationProperty Name="Ships" Relationship="Skerry.TripShips" FromRole="trip" ToRole="ship"/></EntityType>
<EntityType Name="Ship"><Key><PropertyRef Name="Id"/></Key><Property Name="Id" Type="Edm.Guid" Nullable="false"/></EntityType>
<Association Name="TripShips"><End Role="trip" Type="Skerry.Trip" Multiplicity="1"/><End Role="ship" Type="Skerry.Ship" Multiplicity="*"/></Association>
</Schema>
<Schema Namespace="Skerry.Desk" xmlns="http://schemas.microsoft.com/ado/2008/09/edm">
<EntityContainer Name="Desk" m:IsDefaultEntityContainer="true">
  <EntitySet Name="Trips" EntityType="Skerry.Trip"/><EntitySet Name="Ships" EntityType="Skerry.Ship"/>
  <FunctionImport Name="tripsFrom" ReturnType="Collection(Skerry.Trip)" EntitySet="Trips" m:HttpMethod="GET">
    <Parameter Name="quay" Type="Edm.String"/><Parameter Name="most" Type="Edm.Int64"/></FunctionImport>
  <FunctionImport Name="cancel" m:HttpMethod="POST"><Parameter Name="trip" Type="Edm.Int32"/></FunctionImport>
  <FunctionImport Name="odd" m:HttpMethod="BREW"/>
</EntityContainer></Schema></edmx:DataServices></edmx:Edmx>"#;

#[test]
fn services_before_v4_are_called_with_their_own_literals_and_answer_below_d() {
    let service = service(OLDER);
    assert_eq!(service.standard, "OData 2.0");
    let call = |id: &str| &service.calls[id];
    assert_eq!(
        call("getTrip").path,
        "/Trips(Number={number}L,On=datetime'{on}')"
    );
    assert_eq!(call("updateTrip").method, "MERGE");
    assert_eq!(call("getShip").path, "/Ships(guid'{id}')");
    assert_eq!(
        call("listTripShips").path,
        "/Trips(Number={number}L,On=datetime'{on}')/Ships"
    );
    let from = call("tripsFrom");
    assert_eq!(
        from.send["query"]["quay"],
        r#"="'" + query.quay.replace("'", "''") + "'""#
    );
    assert_eq!(
        from.send["query"]["most"],
        r#"="" + string(query.most) + "L""#
    );
    assert_eq!(from.send["query"]["$top"], r#"=query[?"$top"]"#);
    assert_eq!(from.send["headers"]["Accept"], "application/json");
    assert_eq!(call("cancel").method, "POST");
    let document = document(&service);
    let answer = &document["paths"]["/Trips"]["get"]["responses"]["200"]["content"]["application/json"]
        ["schema"];
    assert_eq!(answer["properties"]["d"]["required"], json!(["results"]));
    let fare = &document["components"]["schemas"]["Trip"]["properties"]["Fare"];
    assert_eq!(fare["type"], "string");
    assert_eq!(
        document["components"]["schemas"]["Trip"]["description"],
        "One trip."
    );
    let told: Vec<&str> = service
        .findings
        .iter()
        .map(|f| f.message.as_str())
        .collect();
    assert_eq!(
        told,
        [
            "“odd” is called by BREW, which is not read",
            "entities carry addresses of the service itself in `__metadata`"
        ]
    );
}

#[test]
fn odd_and_hostile_metadata_is_told_and_bounded() {
    for (text, part) in [
        (
            "<edmx:Edmx xmlns:edmx='http://docs.oasis-open.org/odata/ns/edmx'>",
            "still open",
        ),
        (
            "<a xmlns:edmx='http://docs.oasis-open.org/odata/ns/edmx'/>",
            "no OData metadata",
        ),
    ] {
        let error = read(text, "a.xml", "").unwrap_err();
        assert!(error.message.contains(part), "{}", error.message);
    }
    assert!(!is_metadata(
        "<wsdl:definitions xmlns:wsdl='http://schemas.xmlsoap.org/wsdl/'/>"
    ));
    assert!(!is_metadata(
        "openapi: 3.1.0 # http://docs.oasis-open.org/odata/ns/edmx"
    ));
    // Types that are derived from each other, and one that is a collection of itself.
    let circle = four(
        r#"<EntityType Name="A" BaseType="Self.B"><Property Name="X" Type="Self.C"/></EntityType><EntityType Name="B" BaseType="Self.A"/>
        <TypeDefinition Name="C" UnderlyingType="Self.C"/>
        <EntityContainer Name="E"><EntitySet Name="As" EntityType="Self.A"/></EntityContainer>"#,
    );
    let round = service(&circle);
    assert_eq!(round.calls.len(), 2);
    assert!(
        !round.description.contains("allOf"),
        "{}",
        round.description
    );
    // Many types of many inherited properties: no more than what each adds.
    let mut schema = String::from(r#"<EntityType Name="Base"><Key><PropertyRef Name="P0"/></Key>"#);
    for i in 0..3000 {
        schema.push_str(&format!(
            r#"<Property Name="P{i}" Type="Edm.Int32" Nullable="false"/>"#
        ));
    }
    schema.push_str("</EntityType>");
    let mut sets = String::from(r#"<EntityContainer Name="E">"#);
    for i in 0..12_000 {
        schema.push_str(&format!(
            r#"<EntityType Name="T{i}" BaseType="Self.Base"/>"#
        ));
        sets.push_str(&format!(
            r#"<EntitySet Name="S{i}" EntityType="Self.T{i}"/>"#
        ));
    }
    let many = service(&four(&format!("{schema}{sets}</EntityContainer>")));
    assert!(
        many.calls.len() >= 10_000 && many.calls.len() < 10_100,
        "{}",
        many.calls.len()
    );
    assert!(
        many.description.len() < 40 << 20,
        "{}",
        many.description.len()
    );
    assert!(
        many.findings
            .iter()
            .any(|f| f.message.contains("only the first 10000"))
    );
    // Functions that cannot be called, bound to what many sets hold.
    let mut schema = String::from(
        r#"<EntityType Name="T"><Key><PropertyRef Name="I"/></Key><Property Name="I" Type="Edm.Int32" Nullable="false"/></EntityType><ComplexType Name="C"/>"#,
    );
    let mut sets = String::from(r#"<EntityContainer Name="E">"#);
    for i in 0..5000 {
        schema.push_str(&format!(r#"<Function Name="F{i}" IsBound="true"><Parameter Name="t" Type="Self.T"/><Parameter Name="c" Type="Self.C"/><ReturnType Type="Edm.Int32"/></Function>"#));
        sets.push_str(&format!(r#"<EntitySet Name="S{i}" EntityType="Self.T"/>"#));
    }
    let bound = service(&four(&format!("{schema}{sets}</EntityContainer>")));
    assert!(bound.calls.len() < 100, "{}", bound.calls.len());
    let told = bound.findings.iter().map(|f| f.message.as_str());
    assert!({ told }.all(|t| !t.contains("only the first")));
    assert!(bound.findings.len() <= 202, "{}", bound.findings.len());
    // Nesting that no parser should meet.
    let deep = format!("{}{}", four(&"<a>".repeat(100_000)), "");
    assert!(read(&deep, "deep.xml", "").is_err());
}
