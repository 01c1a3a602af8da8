-- No sub-ledger is below zero on any day: what customers owe or lies unapplied, goods at cost, goods shipped and not
-- billed, containers, money in hand. Day by day, by what it is about. Not card clearing: what goes back to a card after it was
-- paid out is owed to the processor until its next payout.
WITH moved (what, about, day, amount) AS (
    -- Debits of a customer on receivables; credits on what is owed back to it.
    SELECT purpose, customer_id, posting_date, CASE purpose WHEN 'receivable' THEN base_minor ELSE -base_minor END
    FROM entry_lines JOIN entries ON entries.id = entry_id
    WHERE purpose IN ('receivable', 'unapplied', 'deposit_liability', 'prepayment_liability', 'container_liability')
    UNION ALL
    SELECT purpose, account, posting_date, base_minor FROM entry_lines JOIN entries ON entries.id = entry_id
    WHERE purpose IN ('inventory', 'shipped_cost', 'in_hand', 'inspection')
    UNION ALL
    SELECT 'quantity of layer', id, posting_date, quantity_e4 FROM stock_layers
    UNION ALL
    SELECT 'quantity of layer', layer_id, posting_date, -quantity_e4 FROM stock_moves
    UNION ALL
    SELECT 'cost of layer', id, posting_date, cost_minor FROM stock_layers
    UNION ALL
    SELECT 'cost of layer', layer_id, posting_date, -cost_minor FROM stock_moves
    UNION ALL
    SELECT 'containers at customer', customer_id || ' of item ' || item_id, posting_date, quantity_e4 FROM container_moves
    UNION ALL
    SELECT 'prepaid line', coalesce(credits_line_id, document_lines.id), posting_date, document_lines.net_minor
    FROM document_lines JOIN documents ON documents.id = document_id
    WHERE state = 'posted' AND prepaid_base_minor IS NOT NULL
    UNION ALL
    SELECT 'prepaid line', prepaid_line_id, posting_date, -net_minor FROM prepaid_uses
    UNION ALL
    SELECT 'open item', id, posting_date, amount_minor FROM open_items
    UNION ALL
    SELECT 'open item', debit_item, application_date, -debit_minor FROM applications
    UNION ALL
    SELECT 'open item', credit_item, application_date, -credit_minor FROM applications
),
days AS (SELECT what, about, day, sum(amount) AS amount FROM moved GROUP BY what, about, day),
running AS (SELECT what, about, day, sum(amount) OVER (PARTITION BY what, about ORDER BY day) AS balance FROM days)
SELECT what || ' ' || coalesce(about, '') || ' is ' || min(balance) || ' from ' || min(day) || ' on'
FROM running WHERE balance < 0 GROUP BY what, about;
