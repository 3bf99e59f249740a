//! Structures with expressions in them: how bodies are built.

use serde_json::{Map, Value};

use super::{EvalError, Expr, ParseError, Scope, Step, Val};

/// A JSON structure in which texts that begin with `=` are expressions (`==` stands for a literal that begins with `=`).
#[derive(Debug)]
pub enum Template {
    /// A value without expressions.
    Literal(Value),
    /// One expression.
    Expr(Expr),
    /// A list; absent items are left out.
    List(Vec<Template>),
    /// A map; absent members are left out.
    Map(Vec<(String, Template)>),
}

/// What is wrong with a template: the path to each place, and the mistake.
pub type TemplateErrors = Vec<(Vec<String>, ParseError)>;

impl Template {
    /// Compiles a structure.
    ///
    /// # Errors
    /// Every expression that does not compile, with the path to it.
    pub fn compile(value: &Value, roots: &[&str]) -> Result<Self, TemplateErrors> {
        let mut errors = Vec::new();
        let template = Self::build(value, roots, &mut Vec::new(), &mut errors);
        if errors.is_empty() {
            Ok(template)
        } else {
            Err(errors)
        }
    }

    fn build(
        value: &Value,
        roots: &[&str],
        path: &mut Vec<String>,
        errors: &mut TemplateErrors,
    ) -> Self {
        match value {
            Value::String(text) => match text.strip_prefix('=') {
                Some(rest) if rest.starts_with('=') => {
                    Template::Literal(Value::String(rest.to_owned()))
                }
                Some(source) => match Expr::compile(source, roots) {
                    Ok(expr) => Template::Expr(expr),
                    Err(mut e) => {
                        e.offset += 1;
                        errors.push((path.clone(), e));
                        Template::Literal(Value::Null)
                    }
                },
                None => Template::Literal(value.clone()),
            },
            Value::Array(items) => Template::List(
                items
                    .iter()
                    .enumerate()
                    .map(|(i, v)| Self::below(v, roots, path, errors, i.to_string()))
                    .collect(),
            ),
            Value::Object(map) => Template::Map(
                map.iter()
                    .map(|(k, v)| (k.clone(), Self::below(v, roots, path, errors, k.clone())))
                    .collect(),
            ),
            other => Template::Literal(other.clone()),
        }
    }

    fn below(
        value: &Value,
        roots: &[&str],
        path: &mut Vec<String>,
        errors: &mut TemplateErrors,
        step: String,
    ) -> Self {
        path.push(step);
        let template = Self::build(value, roots, path, errors);
        path.pop();
        template
    }

    /// Calls `f` with the path and the expression of each place.
    pub fn each_expr<'t>(&'t self, path: &mut Vec<String>, f: &mut dyn FnMut(&[String], &'t Expr)) {
        match self {
            Template::Literal(_) => {}
            Template::Expr(expr) => f(path, expr),
            Template::List(items) => {
                for (i, item) in items.iter().enumerate() {
                    path.push(i.to_string());
                    item.each_expr(path, f);
                    path.pop();
                }
            }
            Template::Map(entries) => {
                for (key, item) in entries {
                    path.push(key.clone());
                    item.each_expr(path, f);
                    path.pop();
                }
            }
        }
    }

    /// The same, to change what stands there.
    pub fn each_expr_mut(
        &mut self,
        path: &mut Vec<String>,
        f: &mut dyn FnMut(&[String], &mut Expr),
    ) {
        let all: Vec<(String, &mut Template)> = match self {
            Template::Literal(_) => return,
            Template::Expr(expr) => return f(path, expr),
            Template::List(items) => {
                let all = items.iter_mut().enumerate();
                all.map(|(i, item)| (i.to_string(), item)).collect()
            }
            Template::Map(entries) => entries.iter_mut().map(|(k, v)| (k.clone(), v)).collect(),
        };
        for (step, item) in all {
            path.push(step);
            item.each_expr_mut(path, f);
            path.pop();
        }
    }

    /// The path it passes on whole, when it is one plain reference.
    pub fn as_plain_path(&self) -> Option<&[Step]> {
        match self {
            Template::Expr(expr) => expr.as_plain_path(),
            _ => None,
        }
    }

    /// The value in a scope; `None` when it is absent.
    ///
    /// # Errors
    /// The path to the expression that failed, its text, and why.
    pub fn render(&self, scope: &dyn Scope) -> Result<Option<Value>, (String, EvalError)> {
        match self {
            Template::Literal(value) => Ok(Some(value.clone())),
            Template::Expr(expr) => {
                let value = expr
                    .eval(scope)
                    .map_err(|e| (expr.source().to_owned(), e))?;
                Ok(value.to_json())
            }
            Template::List(items) => {
                let items: Vec<Option<Value>> = items
                    .iter()
                    .map(|i| i.render(scope))
                    .collect::<Result<_, _>>()?;
                Ok(Some(Value::Array(items.into_iter().flatten().collect())))
            }
            Template::Map(entries) => {
                let mut map = Map::with_capacity(entries.len());
                for (key, item) in entries {
                    if let Some(value) = item.render(scope)? {
                        map.insert(key.clone(), value);
                    }
                }
                Ok(Some(Value::Object(map)))
            }
        }
    }

    /// The text in a scope, for a path, query or header; `None` when absent.
    ///
    /// # Errors
    /// Like [`Template::render`]; also when the value has no plain text.
    pub fn render_text(&self, scope: &dyn Scope) -> Result<Option<String>, (String, EvalError)> {
        let (source, value) = match self {
            Template::Expr(expr) => (
                expr.source(),
                expr.eval(scope)
                    .map_err(|e| (expr.source().to_owned(), e))?,
            ),
            Template::Literal(value) => ("", Val::of(value)),
            _ => {
                return Err((
                    String::new(),
                    EvalError::Type("a list or map has no plain text".into()),
                ));
            }
        };
        match value {
            Val::Absent | Val::Null => Ok(None),
            value => match value.to_text() {
                Some(text) => Ok(Some(text.into_owned())),
                None => Err((
                    source.to_owned(),
                    EvalError::Type(format!("{} has no plain text", value.kind())),
                )),
            },
        }
    }
}
