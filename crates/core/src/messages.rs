//! Messages to customers: a template with places to fill in, and an address mail can go to.

/// What a template may name, with what it becomes.
pub const PLACES: &[(&str, &str)] = &[
    ("number", "the document's number"),
    ("date", "its date"),
    ("total", "its total with the currency"),
    ("due", "when it is due"),
    ("customer", "the customer's name"),
    ("contact", "whom it is addressed to"),
    ("orders", "the orders it bills, with the customer's numbers"),
    ("company", "the company's name"),
];

/// Fills a template in: `{number}` becomes the value of `number`. What it does not know stays.
///
/// ```
/// use till_core::messages::fill;
/// assert_eq!(fill("Invoice {number}, {what}", &[("number", "I-7")]), "Invoice I-7, {what}");
/// ```
pub fn fill(template: &str, values: &[(&str, &str)]) -> String {
    let mut filled = String::with_capacity(template.len() + 64);
    let mut rest = template;
    while let Some(open) = rest.find('{') {
        filled.push_str(&rest[..open]);
        rest = &rest[open..];
        let value = rest.find('}').and_then(|close| {
            let (_, value) = values.iter().find(|(key, _)| *key == &rest[1..close])?;
            Some((close, *value))
        });
        match value {
            Some((close, value)) => {
                filled.push_str(value);
                rest = &rest[close + 1..];
            }
            None => {
                filled.push('{');
                rest = &rest[1..];
            }
        }
    }
    filled.push_str(rest);
    filled
}

/// The message that a link to a customer's page goes with: what it is about, and the text. `until` is the last day on which
/// the link works; `quote` the number of the quote it goes with.
///
/// ```
/// use till_core::messages::page_message;
/// let (subject, body) = page_message("Marram Hive Supply", "Tern Point", Some("Q-7"), "https://till.example/page#x", "1 Apr 2026");
/// assert_eq!(subject, "Quote Q-7 from Marram Hive Supply");
/// assert!(body.contains("https://till.example/page#x") && body.contains("until 1 Apr 2026"));
/// ```
pub fn page_message(company: &str, customer: &str, quote: Option<&str>, link: &str, until: &str) -> (String, String) {
    let (subject, what) = match quote {
        Some(number) => (
            format!("Quote {number} from {company}"),
            format!("Please find our quote {number} on your page. You can accept it there:"),
        ),
        None => (
            format!("Your account with {company}"),
            "Your page shows your invoices, what is on its way, and what is waiting for you:".to_owned(),
        ),
    };
    let body = format!(
        "Dear {customer},\n\n{what}\n\n{link}\n\nThis link works until {until}. Whoever has it sees your page, so please pass it on \
         only to people who may see your account.\n\nKind regards\n{company}"
    );
    (subject, body)
}

/// What is wrong with a template, if anything is: a place it cannot fill.
pub fn template_problem(template: &str) -> Option<String> {
    let mut rest = template;
    while let Some(open) = rest.find('{') {
        rest = &rest[open + 1..];
        let Some(close) = rest.find('}') else {
            return Some("A { is not closed. Write the name of a place and a } behind it.".to_owned());
        };
        let name = &rest[..close];
        if !PLACES.iter().any(|(known, _)| *known == name) {
            let known: Vec<String> = PLACES.iter().map(|(known, _)| format!("{{{known}}}")).collect();
            return Some(format!("Nothing is known as {{{name}}}. Choose among {}.", known.join(", ")));
        }
        rest = &rest[close + 1..];
    }
    None
}

/// What is wrong with an email address, if anything is. Only its form: one @, something on both
/// sides, no blanks. *Source: RFC 5321, section 4.1.2, from memory; quoted names are left out.*
pub fn address_problem(address: &str) -> Option<String> {
    let address = address.trim();
    let well_formed = address.len() <= 254
        && address.split_once('@').is_some_and(|(name, host)| {
            !name.is_empty()
                && name.len() <= 64
                && host.contains('.')
                && !host.starts_with('.')
                && !host.ends_with('.')
                && !host.contains('@')
        })
        && address.chars().all(|c| c.is_ascii_graphic() && !"<>(),;:\\\"[]".contains(c));
    (!well_formed).then(|| format!("“{address}” is no email address. Write it as name@place.example."))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_are_filled_once_and_what_is_filled_in_is_left_alone() {
        let values = [("number", "{date}"), ("date", "3 Mar")];
        assert_eq!(fill("{number} of {date} {", &values), "{date} of 3 Mar {");
    }

    #[test]
    fn a_template_says_what_it_cannot_fill() {
        assert_eq!(template_problem("Invoice {number} from {company}"), None);
        assert!(template_problem("{nubmer}").unwrap().starts_with("Nothing is known as {nubmer}"));
        assert!(template_problem("{number").unwrap().contains("not closed"));
    }

    #[test]
    fn addresses_have_one_at_and_a_host() {
        for good in ["a@b.example", "first.last+tag@mail.b.example"] {
            assert_eq!(address_problem(good), None, "{good}");
        }
        for bad in
            ["", "a", "a@b", "@b.example", "a b@c.example", "a@b.example, c@d.example", "a@@b.example", "a@.example"]
        {
            assert!(address_problem(bad).is_some(), "{bad}");
        }
    }
}
