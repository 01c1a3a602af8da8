-- Deposits that were taxed as they came in: net and tax by code come to what was taken, and to what is applied.
SELECT payments.number || ': its tax by code comes to ' || coalesce(gross, 0) || ' and ' || coalesce(base, 0) || ' in base currency'
FROM deposits JOIN payments ON payments.id = deposits.id
JOIN open_items ON open_items.kind = 'deposit' AND document_id = deposits.id AND side = 'owed_by_us'
LEFT JOIN (SELECT item_id, sum(net_minor + tax_minor) AS gross, sum(net_base_minor + tax_base_minor) AS base FROM item_taxes GROUP BY item_id) AS taxes
  ON item_id = open_items.id
WHERE CASE regime WHEN 'at_receipt' THEN (coalesce(gross, 0), coalesce(base, 0)) <> (payments.amount_minor, payments.amount_base_minor)
                  ELSE gross IS NOT NULL END
UNION ALL
SELECT credit.number || ' to ' || debit.number || ': the tax that went with it does not come to what was applied'
FROM applications JOIN open_items AS credit ON credit.id = credit_item JOIN open_items AS debit ON debit.id = debit_item
JOIN deposits ON credit.kind = 'deposit' AND deposits.id = credit.document_id AND regime = 'at_receipt'
WHERE (credit_minor, credit_base_minor) <> (
    SELECT coalesce(sum(net_minor + tax_minor), 0), coalesce(sum(net_base_minor + tax_base_minor), 0)
    FROM application_taxes WHERE application_id = applications.id)
UNION ALL
-- What is left of each code is never below zero, and nothing once nothing is held.
SELECT number || ', code ' || tax_code || ': ' || net || ' net and ' || tax || ' tax are left of it'
FROM (
    SELECT open_items.id, number, open_minor, tax_code, rate_e6, sum(moved.net) AS net, sum(moved.tax) AS tax, sum(moved.base) AS base
    FROM open_items JOIN (
        SELECT item_id AS item, tax_code, rate_e6, net_minor AS net, tax_minor AS tax, net_base_minor + tax_base_minor AS base FROM item_taxes
        UNION ALL
        SELECT credit_item, tax_code, rate_e6, -net_minor, -tax_minor, -net_base_minor - tax_base_minor
        FROM applications JOIN application_taxes ON application_id = applications.id
    ) AS moved ON moved.item = open_items.id
    WHERE open_items.kind = 'deposit' AND side = 'owed_by_us'
    GROUP BY open_items.id, tax_code, rate_e6
)
WHERE net < 0 OR tax < 0 OR (open_minor = 0 AND (net, tax, base) <> (0, 0, 0))
UNION ALL
-- On no code is more applied than the invoice has of it.
SELECT debit.number || ', code ' || used.tax_code || ': deposits cover ' || used.net || ' net and ' || used.tax || ' tax of it'
FROM (
    SELECT debit_item, tax_code, rate_e6, sum(net_minor) AS net, sum(tax_minor) AS tax
    FROM applications JOIN application_taxes ON application_id = applications.id GROUP BY debit_item, tax_code, rate_e6
) AS used JOIN open_items AS debit ON debit.id = debit_item AND debit.kind = 'invoice'
LEFT JOIN (
    SELECT document_id, tax_code, rate_e6, sum(base_minor) AS net, sum(tax_minor) AS tax FROM document_taxes GROUP BY document_id, tax_code, rate_e6
) AS billed ON billed.document_id = debit.document_id AND billed.tax_code = used.tax_code AND billed.rate_e6 = used.rate_e6
WHERE used.net > coalesce(billed.net, 0) OR used.tax > coalesce(billed.tax, 0)
UNION ALL
-- Taken = held + applied + refunded + kept, and where it was moved last is where it is.
SELECT payments.number || ': what was refunded or kept is not what stands against it'
FROM deposits JOIN payments ON payments.id = deposits.id
JOIN open_items ON open_items.kind = 'deposit' AND document_id = deposits.id AND side = 'owed_by_us'
WHERE coalesce((SELECT sum(amount_minor) FROM deposit_ends WHERE deposit_id = deposits.id AND deposit_ends.reversed_on IS NULL), 0) <> coalesce((
    SELECT sum(credit_minor) FROM applications JOIN open_items AS debit ON debit.id = debit_item AND debit.kind = 'deposit_end'
    WHERE credit_item = open_items.id), 0)
UNION ALL
SELECT payments.number || ' is not where it was moved last'
FROM deposits JOIN payments ON payments.id = deposits.id
JOIN deposit_moves ON deposit_moves.id = (SELECT max(id) FROM deposit_moves WHERE deposit_id = deposits.id)
WHERE deposits.order_id IS NOT to_order_id
UNION ALL
-- What a deposit was made of lay unapplied, on the customer's own account, and is used up by it while it stands.
SELECT payments.number || ': what it was made of is not what stands against ' || origin.number
FROM deposits JOIN payments ON payments.id = deposits.id JOIN open_items AS origin ON origin.id = turned_from
WHERE (origin.purpose, origin.side, origin.customer_id, origin.currency) <> ('unapplied', 'owed_by_us', payments.customer_id, payments.currency)
   OR coalesce((SELECT sum(credit_minor) FROM applications JOIN open_items AS debit ON debit.id = debit_item
                WHERE credit_item = origin.id AND debit.kind = 'deposit' AND debit.document_id = deposits.id), 0)
      <> CASE WHEN reversed_on IS NULL THEN payments.amount_minor ELSE 0 END;
