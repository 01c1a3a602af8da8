//! Which picked lines make one invoice.

use crate::calendar::Terms;
use crate::ids::CustomerId;
use crate::money::Currency;

/// What lines on one invoice have in common.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Group {
    /// The customer.
    pub customer: CustomerId,
    /// The currency.
    pub currency: Currency,
    /// The payment terms.
    pub terms: Terms,
}

/// Sorts picks into invoices: same customer, currency and terms go together, in the order in
/// which they were picked. *Source: domain.md section 7.*
pub fn group<T>(picks: Vec<(Group, T)>) -> Vec<(Group, Vec<T>)> {
    let mut groups: Vec<(Group, Vec<T>)> = Vec::new();
    for (group, pick) in picks {
        match groups.iter_mut().find(|(known, _)| *known == group) {
            Some((_, members)) => members.push(pick),
            None => groups.push((group, vec![pick])),
        }
    }
    groups
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn customers_currencies_and_terms_are_kept_apart() {
        let key = |customer, code, days| Group {
            customer: CustomerId(customer),
            currency: Currency::of(code).unwrap(),
            terms: Terms::net_days(days),
        };
        let picks = vec![
            (key(1, "EUR", 30), 'a'),
            (key(2, "EUR", 30), 'b'),
            (key(1, "EUR", 30), 'c'),
            (key(1, "EUR", 14), 'd'),
            (key(1, "GBP", 30), 'e'),
        ];
        let members: Vec<Vec<char>> = group(picks).into_iter().map(|(_, members)| members).collect();
        assert_eq!(members, [vec!['a', 'c'], vec!['b'], vec!['d'], vec!['e']]);
    }
}
