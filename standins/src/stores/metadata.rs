//! The metadata of the ship's stores (OData CSDL XML 4.01).

pub(super) const TEXT: &str = r#"<?xml version="1.0" encoding="UTF-8"?>
<edmx:Edmx Version="4.0" xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx">
  <edmx:DataServices>
    <Schema Namespace="Skerry.Stores" Alias="Self" xmlns="http://docs.oasis-open.org/odata/ns/edm">
      <EnumType Name="Shelf"><Member Name="Dry" Value="0"/><Member Name="Cold" Value="1"/></EnumType>
      <EntityType Name="Good">
        <Key><PropertyRef Name="Code"/></Key>
        <Property Name="Code" Type="Edm.String" Nullable="false" MaxLength="20"/>
        <Property Name="Name" Type="Edm.String" Nullable="false"/>
        <Property Name="Kind" Type="Edm.String"/>
        <Property Name="Left" Type="Edm.Int32" Nullable="false" DefaultValue="0"/>
        <Property Name="Price" Type="Edm.Decimal" Scale="2"/>
        <Property Name="Shelf" Type="Self.Shelf"/>
        <Property Name="Counted" Type="Edm.DateTimeOffset">
          <Annotation Term="Org.OData.Core.V1.Computed"/>
        </Property>
        <NavigationProperty Name="Lots" Type="Collection(Self.Lot)"/>
      </EntityType>
      <EntityType Name="Lot">
        <Key><PropertyRef Name="Good"/><PropertyRef Name="Number"/></Key>
        <Property Name="Good" Type="Edm.String" Nullable="false"/>
        <Property Name="Number" Type="Edm.Int32" Nullable="false"/>
        <Property Name="Quay" Type="Edm.String"/>
      </EntityType>
      <Action Name="take" IsBound="true">
        <Parameter Name="good" Type="Self.Good"/>
        <Parameter Name="Number" Type="Edm.Int32" Nullable="false"/>
        <ReturnType Type="Edm.Int32"/>
      </Action>
      <Function Name="short">
        <Parameter Name="Below" Type="Edm.Int32" Nullable="false"/>
        <ReturnType Type="Collection(Self.Good)"/>
      </Function>
      <EntityContainer Name="Stores">
        <EntitySet Name="Goods" EntityType="Self.Good">
          <Annotation Term="Org.OData.Core.V1.Description" String="What there is to take along"/>
        </EntitySet>
        <EntitySet Name="Lots" EntityType="Self.Lot"/>
        <FunctionImport Name="short" Function="Self.short" EntitySet="Goods"/>
      </EntityContainer>
      <Annotations Target="Self.Stores/Lots">
        <Annotation Term="Org.OData.Capabilities.V1.InsertRestrictions"><Record><PropertyValue Property="Insertable" Bool="false"/></Record></Annotation>
        <Annotation Term="Org.OData.Capabilities.V1.UpdateRestrictions"><Record><PropertyValue Property="Updatable" Bool="false"/></Record></Annotation>
        <Annotation Term="Org.OData.Capabilities.V1.DeleteRestrictions"><Record><PropertyValue Property="Deletable" Bool="false"/></Record></Annotation>
      </Annotations>
    </Schema>
  </edmx:DataServices>
</edmx:Edmx>
"#;
