//! Simple types: restrictions with their facets, lists, unions.

use super::*;

impl<'a, 'i> Compiler<'a, 'i> {
    pub(super) fn simple(&mut self, id: TypeId, at: Component<'a, 'i>) -> Result<Simple, Missing> {
        self.deeper(|c| c.simple_inside(id, at))
    }

    pub(super) fn simple_inside(
        &mut self,
        id: TypeId,
        at: Component<'a, 'i>,
    ) -> Result<Simple, Missing> {
        for node in children(at.node) {
            let inner = |name: &str| children(node).find(|n| n.tag_name().name() == name);
            match node.tag_name().name() {
                "restriction" => {
                    let mut simple = match (self.base_simple(id, at, node)?, inner("simpleType")) {
                        (Some(simple), _) => simple,
                        (None, Some(inner)) => self.simple(id, at.at(inner))?,
                        (None, None) => return Err(Missing::Bare("a simpleType", "base")),
                    };
                    for bad in facets(&mut simple, node) {
                        self.lose_pattern(id, &bad);
                    }
                    return Ok(simple);
                }
                "list" => {
                    let item = match (node.attribute("itemType"), inner("simpleType")) {
                        (Some(text), _) => self.simple_named(at.at(node), text)?,
                        (None, Some(inner)) => self.simple(id, at.at(inner))?,
                        (None, None) => Simple::plain(Base::Token),
                    };
                    return Ok(Simple::plain(Base::List(Box::new(item))));
                }
                "union" => {
                    let mut kinds = Vec::new();
                    for text in node
                        .attribute("memberTypes")
                        .unwrap_or_default()
                        .split_ascii_whitespace()
                    {
                        kinds.push(self.simple_named(at.at(node), text)?);
                    }
                    for inner in children(node).filter(|n| n.tag_name().name() == "simpleType") {
                        kinds.push(self.simple(id, at.at(inner))?);
                    }
                    return Ok(Simple::plain(Base::Union(kinds)));
                }
                _ => {}
            }
        }
        Ok(Simple::plain(Base::Text))
    }

    pub(super) fn base_simple(
        &mut self,
        id: TypeId,
        of: Component<'a, 'i>,
        step: Node<'a, 'i>,
    ) -> Result<Option<Simple>, Missing> {
        let Some(text) = step.attribute("base") else {
            return Ok(None);
        };
        let name = self.name(Kind::Type, of.at(step), text);
        if self
            .index
            .get(Kind::Type, &name)
            .is_some_and(|f| f.key() == of.key())
        {
            let original = self.index.original(of).ok_or(Missing::Itself(name.1))?;
            return self.simple(id, original).map(Some);
        }
        self.simple_named(of.at(step), text).map(Some)
    }

    pub(super) fn simple_named(
        &mut self,
        at: Component<'a, 'i>,
        text: &str,
    ) -> Result<Simple, Missing> {
        let (id, _) = self.named_with_name(at, text)?;
        match self.plan.get(id) {
            TypePlan::Simple(simple) => Ok(simple.clone()),
            _ => Err(Missing::NotSimple(text.to_owned())),
        }
    }

    pub(super) fn lose_pattern(&mut self, id: TypeId, pattern: &str) {
        self.lose(
            id,
            format!("the pattern {pattern} cannot be checked by the porch; the backend still does"),
        );
    }
}

/// Applies the facets of a restriction (XML Schema part 2 §4.3); gives back the patterns that cannot be checked.
pub(super) fn facets(simple: &mut Simple, restriction: Node<'_, '_>) -> Vec<String> {
    let (mut values, mut patterns, mut bad) = (Vec::new(), Vec::new(), Vec::new());
    for node in children(restriction) {
        let value = node.attribute("value").unwrap_or_default();
        let number = value.trim().parse::<usize>().ok();
        match node.tag_name().name() {
            "enumeration" => values.push(value.to_owned()),
            "pattern" => patterns.push(value),
            "length" => simple.length = (number, number),
            "minLength" => simple.length.0 = number,
            "maxLength" => simple.length.1 = number,
            "minInclusive" => simple.min = Some((value.trim().to_owned(), false)),
            "minExclusive" => simple.min = Some((value.trim().to_owned(), true)),
            "maxInclusive" => simple.max = Some((value.trim().to_owned(), false)),
            "maxExclusive" => simple.max = Some((value.trim().to_owned(), true)),
            "totalDigits" => simple.digits.0 = number,
            "fractionDigits" => simple.digits.1 = number,
            "whiteSpace" => match (value, &simple.base) {
                ("collapse", Base::Text | Base::Normalized) => simple.base = Base::Token,
                ("replace", Base::Text) => simple.base = Base::Normalized,
                _ => {}
            },
            _ => {}
        }
    }
    if !values.is_empty() {
        simple.enumeration = values;
    }
    if !patterns.is_empty() {
        // Patterns of one step are alternatives (part 2 §4.3.4.3); those of several steps must all match.
        let source = patterns.join("|");
        match regex::RegexBuilder::new(&format!("^(?:{})$", crate::simple::regex_of(&source)))
            .size_limit(1 << 20)
            .build()
        {
            Ok(regex) => simple.patterns.push((regex, source)),
            Err(_) => bad.push(source),
        }
    }
    bad
}
