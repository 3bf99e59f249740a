//! Texts in Markdown (CommonMark 0.31, with tables), as HTML that holds nothing but text: what runs, loads or looks like
//! something else is taken out, whoever wrote it.

use pulldown_cmark::{Options, Parser, html};

/// A text of at most so many bytes is made.
const MOST: usize = 512 << 10;

/// HTML of a text.
pub(crate) fn to_html(text: &str) -> String {
    let end = (0..=text.len().min(MOST))
        .rev()
        .find(|at| text.is_char_boundary(*at));
    let text = &text[..end.unwrap_or(0)];
    let parser = Parser::new_ext(text, Options::ENABLE_TABLES);
    let mut made = String::new();
    html::push_html(&mut made, parser);
    let mut cleaner = ammonia::Builder::default();
    cleaner
        .rm_tags(["img", "map", "area"])
        .url_relative(ammonia::UrlRelative::PassThrough)
        .link_rel(Some("noopener noreferrer"));
    cleaner.clean(&made).to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_people_write_is_text_and_links_and_nothing_that_runs() {
        let html = to_html(
            "# Fares\n\n*From* [here](/pages/first-call), `code`\n\n| a | b |\n|---|---|\n| 1 | 2 |\n",
        );
        for part in [
            "<h1>Fares</h1>",
            "<em>From</em>",
            "href=\"/pages/first-call\"",
            "<code>code</code>",
            "<table>",
        ] {
            assert!(html.contains(part), "{part}: {html}");
        }
        for bad in [
            "<script>alert(1)</script>",
            "[x](javascript:alert(1))",
            "<img src=x onerror=alert(1)>",
            "![x](http://elsewhere.example/x.png)",
            "<iframe src=//elsewhere.example></iframe>",
            "<a href=\"data:text/html,x\">x</a>",
            "<p onclick=alert(1) style=\"position:fixed\">x</p>",
            "<form action=//elsewhere.example><input name=password></form>",
            "<svg><script>alert(1)</script></svg>",
        ] {
            let html = to_html(bad).to_lowercase();
            for part in [
                "script", "onerror", "onclick", "style=", "<img", "<iframe", "data:", "<form",
                "<input", "<svg",
            ] {
                let told = html.contains(part) && !html.contains("&lt;");
                assert!(!told, "{bad}: {html}");
            }
        }
        assert!(to_html(&"é".repeat(MOST)).len() <= MOST + 20);
    }
}
