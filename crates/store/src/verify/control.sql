SELECT 'account ' || account || ' carries lines for ' || group_concat(DISTINCT purpose)
FROM entry_lines
WHERE account IN (
    SELECT account FROM account_map
    WHERE purpose IN ('receivable', 'unapplied', 'in_hand', 'card_clearing', 'inventory', 'tax_payable', 'shipped_cost', 'container_liability',
                      'deposit_liability', 'prepayment_liability')
)
GROUP BY account HAVING count(DISTINCT purpose) > 1;
