//! The scanner, fed in pieces.

use super::*;

/// All tokens of a document that arrives in pieces, and the most bytes that had to be kept.
fn in_pieces(document: &str, piece: usize) -> (Vec<String>, usize) {
    let (mut scanner, mut buffer, mut most) = (Scanner::new(), String::new(), 0);
    let mut tokens: Vec<String> = Vec::new();
    let mut arriving = document.as_bytes().chunks(piece).peekable();
    while let Some(bytes) = arriving.next() {
        buffer.push_str(std::str::from_utf8(bytes).unwrap());
        most = most.max(buffer.len());
        let last = arriving.peek().is_none();
        loop {
            match scanner.next(&buffer, last).unwrap() {
                Token::Start { local, .. } => tokens.push(format!("<{local}>")),
                Token::End => tokens.push("</>".into()),
                Token::Text { text, .. } => match tokens.last_mut() {
                    Some(before) if !before.starts_with('<') => before.push_str(text),
                    _ => tokens.push(text.to_owned()),
                },
                Token::More | Token::Eof => break,
            }
        }
        buffer.drain(..scanner.consumed());
        scanner.rebase();
    }
    tokens.retain(|t| !t.is_empty());
    (tokens, most)
}

#[test]
fn pieces_of_any_size_give_the_same_tokens() {
    let document = "<?xml version='1.0'?><!-- a - b -> --><a><!----><b x='>'/>t<![CDATA[]]><![CDATA[<c>]] >]]>u<?p ? >?></a><!-- e -->";
    let (whole, _) = in_pieces(document, document.len());
    assert_eq!(whole, ["<a>", "<b>", "t<c>]] >u", "</>"]);
    for piece in 1..document.len() {
        assert_eq!(in_pieces(document, piece).0, whole, "{piece} bytes each");
    }
}

#[test]
fn what_is_long_is_not_kept_while_it_arrives() {
    let long = "x-]?".repeat(100_000);
    let document = format!("<a><!--{long}--><?p {long}?><![CDATA[{long}]]></a>");
    let (tokens, most) = in_pieces(&document, 1000);
    assert_eq!(tokens, ["<a>", long.as_str(), "</>"]);
    assert!(most < 1100, "{most} bytes were kept");
}

#[test]
fn a_comment_with_two_hyphens_in_it_is_refused_wherever_it_is_cut() {
    let document = "<a><!-- x -- y --></a>";
    for at in 1..document.len() {
        let mut scanner = Scanner::new();
        let (mut from, mut wrong) = (0, None);
        for (end, last) in [(at, false), (document.len(), true)] {
            while wrong.is_none() {
                match scanner.next(&document[from..end], last) {
                    Ok(Token::More | Token::Eof) => break,
                    Ok(_) => {}
                    Err(e) => wrong = Some(e),
                }
            }
            from += scanner.consumed();
            scanner.rebase();
        }
        let wrong = wrong.unwrap();
        assert!(wrong.message.contains("inside a comment"), "{at}: {wrong}");
    }
}
