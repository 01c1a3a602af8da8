-- Quotes accepted on the customer page are accepted, by a link of their own customer, and became the order they say.
SELECT quotes.number || ' was accepted on the customer page and is ' || state
FROM quote_acceptances JOIN quotes ON quotes.id = quote_id WHERE state <> 'accepted' OR quotes.order_id IS NOT quote_acceptances.order_id
UNION ALL
SELECT quotes.number || ' was accepted by the link of another customer'
FROM quote_acceptances JOIN quotes ON quotes.id = quote_acceptances.quote_id JOIN page_links ON page_links.id = link_id JOIN orders ON orders.id = quote_acceptances.order_id
WHERE quotes.customer_id <> page_links.customer_id OR orders.customer_id <> page_links.customer_id
UNION ALL
-- A card pays invoices of its own customer alone.
SELECT card_authorizations.number || ' is to pay ' || documents.number || ', an invoice of another customer'
FROM card_authorizations JOIN documents ON documents.id = invoice_id
WHERE documents.customer_id <> card_authorizations.customer_id OR documents.currency <> card_authorizations.currency;
