//! Messages: their parts, as elements or as an object.

use super::*;

/// Header elements of one name get names of their own in JSON.
pub(in crate::wsdl) fn tell_apart(members: &mut [Member], named: &dyn Fn(&str) -> String) {
    for i in 0..members.len() {
        let own = named(&members[i].local);
        let mut name = own.clone();
        let mut n = 1;
        while members[..i].iter().any(|m| m.json == name) {
            n += 1;
            name = format!("{own}_{n}");
        }
        members[i].set_json(name);
    }
}

impl<'a, 'i> WsdlReader<'a, 'i> {
    pub(super) fn message(
        &mut self,
        compiler: &mut Compiler<'a, 'i>,
        operation: &mut Operation,
        (message, taken): (At<'a, 'i>, &[String]),
        concrete: Option<At<'a, 'i>>,
        rpc: Option<(At<'a, 'i>, &str)>,
    ) -> Result<Message, Unusable> {
        let body = concrete.and_then(|c| {
            let mut all = c.node.descendants();
            all.find(|n| is_soap(*n, "body")).map(|n| c.to(n))
        });
        let attached: Vec<&str> = concrete
            .into_iter()
            .flat_map(|c| c.node.descendants())
            .filter(|n| n.has_tag_name((MIME, "content")))
            .filter_map(|n| n.attribute("part"))
            .collect();
        for part in &attached {
            operation.losses.push(format!(
                "the part “{part}” travels as an attachment; it is not among the members"
            ));
        }
        let listed: Option<Vec<&str>> = body
            .and_then(|b| b.node.attribute("parts"))
            .map(|p| p.split_ascii_whitespace().collect());
        let parts: Vec<At<'a, 'i>> = parts_of(message)
            .filter(|p| {
                let name = p.text("name");
                !taken.iter().any(|t| t == name)
                    && !attached.contains(&name)
                    && listed.as_ref().is_none_or(|l| l.contains(&name))
            })
            .collect();
        if let Some((bound, wrapper)) = rpc {
            return self.rpc_message(compiler, operation.encoded, &parts, body, bound, wrapper);
        }
        self.document_message(compiler, message, &parts)
    }

    /// A message whose body holds its parts as they are (WSDL 1.1 §3.5).
    fn document_message(
        &mut self,
        compiler: &mut Compiler<'a, 'i>,
        message: At<'a, 'i>,
        parts: &[At<'a, 'i>],
    ) -> Result<Message, Unusable> {
        let (element, type_id) = match parts {
            [one] if !one.text("element").is_empty() => {
                let element = compiler.element_at(one.component(), one.text("element"))?;
                let type_id = element.type_id;
                (Some(element), type_id)
            }
            // The body is the type itself, which only works when it is made of elements.
            [one] if !one.text("type").is_empty() => {
                let (type_id, _) = compiler.type_at(one.component(), one.text("type"))?;
                compiler.settle();
                if compiler.is_object(type_id) {
                    (None, type_id)
                } else {
                    let name = one.text("name");
                    let what = format!("the part “{name}” is of a type without elements");
                    self.warn(
                        *one,
                        what,
                        "a body of document style holds elements; the part's name is taken for one",
                    );
                    (Some(self.part_member(compiler, *one)?), type_id)
                }
            }
            several => {
                let members = several.iter().map(|p| self.part_member(compiler, *p));
                let members = members.collect::<Result<Vec<_>, _>>()?;
                (None, compiler.parts_type(message.text("name"), members))
            }
        };
        Ok(Message {
            element,
            type_id,
            rpc: false,
        })
    }

    /// The wrapper of an rpc message with an element for each part, which has no namespace (WSDL 1.1 §3.5, SOAP 1.1 §7.1).
    pub(super) fn rpc_message(
        &mut self,
        compiler: &mut Compiler<'a, 'i>,
        encoded: bool,
        parts: &[At<'a, 'i>],
        body: Option<At<'a, 'i>>,
        bound: At<'a, 'i>,
        wrapper: &str,
    ) -> Result<Message, Unusable> {
        let mut members = Vec::new();
        for part in parts {
            let mut member = self.part_member(compiler, *part)?;
            if !part.text("element").is_empty() {
                self.tell(
                    *part,
                    format!(
                        "the part “{}” of an rpc message is given by an element; its type is taken",
                        part.text("name")
                    ),
                    "",
                );
            }
            member.namespace = 0;
            part.text("name").clone_into(&mut member.local);
            if encoded {
                (member.nillable, member.min) = (true, 0);
            }
            members.push(member);
        }
        // To the letter: the wrapper's namespace is that of `soap:body`, and none where that names none. Answers are taken in any.
        let named = body.map(|b| b.node.attribute("namespace").unwrap_or_default().trim());
        let namespace = named.unwrap_or(bound.target);
        if namespace.is_empty() {
            let name = bound.text("name");
            self.tell(
                bound,
                format!("the wrapper <{wrapper}> of {name} has no namespace: its `soap:body` names none (WSDL 1.1 §3.5)"),
                "if the service wants one, write it as `namespace` of its `soap:body`",
            );
        }
        let type_id = compiler.parts_type(wrapper, members);
        let element = Member::element(compiler.namespace(namespace), wrapper, type_id);
        Ok(Message {
            element: Some(element),
            type_id,
            rpc: true,
        })
    }

    /// A part as an element: the one it names, or one of its own name for a part that gives a type.
    pub(super) fn part_member(
        &mut self,
        compiler: &mut Compiler<'a, 'i>,
        part: At<'a, 'i>,
    ) -> Result<Member, Unusable> {
        if !part.text("element").is_empty() {
            return Ok(compiler.element_at(part.component(), part.text("element"))?);
        }
        if part.text("type").is_empty() {
            return Err(Unusable::Part(part.text("name").to_owned()));
        }
        let (type_id, name) = compiler.type_at(part.component(), part.text("type"))?;
        let mut member = Member::element(0, part.text("name"), type_id);
        member.type_name = Some((compiler.namespace(&name.0), name.1));
        Ok(member)
    }
}
