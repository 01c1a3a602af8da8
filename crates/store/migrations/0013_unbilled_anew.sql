-- What is unbilled is valued anew as the books are opened: shipment by shipment, as an invoice would have it.
UPDATE shipment_lines SET unbilled_minor = NULL WHERE unbilled_e4 > 0;
