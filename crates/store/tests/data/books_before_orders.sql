BEGIN TRANSACTION;
CREATE TABLE _sqlx_migrations (
    version BIGINT PRIMARY KEY,
    description TEXT NOT NULL,
    installed_on TIMESTAMP NOT NULL DEFAULT CURRENT_TIMESTAMP,
    success BOOLEAN NOT NULL,
    checksum BLOB NOT NULL,
    execution_time BIGINT NOT NULL
);
INSERT INTO "_sqlx_migrations" VALUES(1,'books','2026-11-25 04:47:58',1,X'93254BB20204519BD3BF50BCA2FE4D1577B58FED832723378C0A5BD813D7EC285B96E8E3BD6B815918DD3900F6B3416F',8803824);
INSERT INTO "_sqlx_migrations" VALUES(2,'people','2026-11-25 04:47:58',1,X'F49EC003A554B6F185266A825416DBA7BF3A59A8FD6F976C3719D64D5A548C1584D2DA2D372AB0D7110ECAB7BA9C317C',13141657);
CREATE TABLE account_map (
    id INTEGER PRIMARY KEY,
    purpose TEXT NOT NULL,
    item_class TEXT,
    customer_class TEXT,
    account TEXT NOT NULL REFERENCES accounts (number)
) STRICT;
INSERT INTO "account_map" VALUES(1,'bank',NULL,NULL,'1000');
INSERT INTO "account_map" VALUES(2,'in_hand',NULL,NULL,'1010');
INSERT INTO "account_map" VALUES(3,'receivable',NULL,NULL,'1100');
INSERT INTO "account_map" VALUES(4,'inventory',NULL,NULL,'1300');
INSERT INTO "account_map" VALUES(5,'supplier_clearing',NULL,NULL,'2000');
INSERT INTO "account_map" VALUES(6,'unapplied',NULL,NULL,'2120');
INSERT INTO "account_map" VALUES(7,'tax_payable',NULL,NULL,'2200');
INSERT INTO "account_map" VALUES(8,'revenue',NULL,NULL,'4000');
INSERT INTO "account_map" VALUES(9,'charge_revenue',NULL,NULL,'4200');
INSERT INTO "account_map" VALUES(10,'cogs',NULL,NULL,'5000');
INSERT INTO "account_map" VALUES(11,'fx_difference',NULL,NULL,'7000');
CREATE TABLE accounts (
    number TEXT PRIMARY KEY CHECK (length(number) > 0),
    name TEXT NOT NULL,
    account_type TEXT NOT NULL CHECK (account_type IN ('asset', 'liability', 'equity', 'revenue', 'expense'))
) STRICT, WITHOUT ROWID;
INSERT INTO "accounts" VALUES('1000','bank','asset');
INSERT INTO "accounts" VALUES('1010','in_hand','asset');
INSERT INTO "accounts" VALUES('1100','receivable','asset');
INSERT INTO "accounts" VALUES('1300','inventory','asset');
INSERT INTO "accounts" VALUES('2000','supplier_clearing','liability');
INSERT INTO "accounts" VALUES('2120','unapplied','liability');
INSERT INTO "accounts" VALUES('2200','tax_payable','liability');
INSERT INTO "accounts" VALUES('4000','revenue','revenue');
INSERT INTO "accounts" VALUES('4200','charge_revenue','revenue');
INSERT INTO "accounts" VALUES('5000','cogs','expense');
INSERT INTO "accounts" VALUES('7000','fx_difference','expense');
CREATE TABLE applications (
    id INTEGER PRIMARY KEY,
    receipt_id INTEGER NOT NULL REFERENCES receipts (id),
    invoice_id INTEGER NOT NULL REFERENCES invoices (id),
    application_date TEXT NOT NULL CHECK (application_date = date(application_date)),
    amount_minor INTEGER NOT NULL CHECK (amount_minor > 0),
    receivable_base_minor INTEGER NOT NULL,
    money_base_minor INTEGER NOT NULL,
    entry_id INTEGER NOT NULL REFERENCES entries (id)
) STRICT;
INSERT INTO "applications" VALUES(1,1,1,'2026-03-18',50000,50000,50000,8);
CREATE TABLE approvals (
    id INTEGER PRIMARY KEY,
    operation TEXT NOT NULL,
    -- What is to be done, as the operation takes it.
    asked TEXT NOT NULL CHECK (json_valid(asked)),
    words TEXT NOT NULL,
    document_kind TEXT NOT NULL,
    document_id INTEGER NOT NULL,
    document_number TEXT NOT NULL,
    amount_base_minor INTEGER NOT NULL CHECK (amount_base_minor >= 0),
    -- From which value to which, as it stood when it was asked.
    changes TEXT NOT NULL CHECK (json_valid(changes)),
    reason TEXT NOT NULL,
    maker_id INTEGER NOT NULL REFERENCES people (id),
    made_at TEXT NOT NULL,
    -- The business date it was asked on.
    made_on TEXT NOT NULL CHECK (made_on = date(made_on)),
    state TEXT NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'approved', 'declined', 'withdrawn')),
    decided_by INTEGER REFERENCES people (id),
    decided_at TEXT,
    decision TEXT,
    CHECK ((state = 'waiting') = (decided_by IS NULL)),
    CHECK (state <> 'approved' OR decided_by <> maker_id),
    CHECK (state <> 'withdrawn' OR decided_by = maker_id)
) STRICT;
CREATE TABLE company (
    id INTEGER PRIMARY KEY CHECK (id = 1),
    name TEXT NOT NULL,
    base_currency TEXT NOT NULL CHECK (length(base_currency) = 3),
    -- NULL: the day on the wall. The demo stands still on one day.
    business_date TEXT CHECK (business_date IS NULL OR business_date = date(business_date)),
    tax_computed TEXT NOT NULL CHECK (tax_computed IN ('per_document', 'per_line'))
, version INTEGER NOT NULL DEFAULT 1) STRICT;
INSERT INTO "company" VALUES(1,'Small Books','EUR','2026-03-18','per_document',1);
CREATE TABLE customers (
    id INTEGER PRIMARY KEY,
    number TEXT NOT NULL UNIQUE,
    name TEXT NOT NULL CHECK (length(name) > 0),
    class TEXT,
    address TEXT NOT NULL,
    country TEXT NOT NULL CHECK (length(country) = 2),
    tax_id TEXT,
    currency TEXT NOT NULL CHECK (length(currency) = 3),
    terms TEXT NOT NULL CHECK (json_valid(terms)),
    -- NULL: no limit.
    credit_limit_minor INTEGER CHECK (credit_limit_minor >= 0),
    stop_reason TEXT,
    needs_order_number INTEGER NOT NULL DEFAULT 0 CHECK (needs_order_number IN (0, 1)),
    -- What the customer owes in base currency: the sum of its open invoices.
    owes_base_minor INTEGER NOT NULL DEFAULT 0,
    version INTEGER NOT NULL DEFAULT 1
) STRICT;
INSERT INTO "customers" VALUES(1,'1','1',NULL,'1 Test Road','MH',NULL,'EUR','{"kind":"net_days","days":30}',NULL,NULL,0,133639,1);
INSERT INTO "customers" VALUES(2,'2','2',NULL,'1 Test Road','MH',NULL,'EUR','{"kind":"net_days","days":30}',NULL,NULL,0,0,1);
INSERT INTO "customers" VALUES(3,'3','3',NULL,'1 Test Road','MH',NULL,'GBP','{"kind":"net_days","days":30}',NULL,NULL,0,0,1);
CREATE TABLE entries (
    id INTEGER PRIMARY KEY,
    number INTEGER NOT NULL UNIQUE CHECK (number > 0),
    posting_date TEXT NOT NULL CHECK (posting_date = date(posting_date)),
    text TEXT NOT NULL,
    source_kind TEXT NOT NULL,
    source_id INTEGER NOT NULL,
    source_number TEXT NOT NULL,
    currency TEXT NOT NULL CHECK (length(currency) = 3),
    reverses_id INTEGER REFERENCES entries (id)
) STRICT;
INSERT INTO "entries" VALUES(1,1,'2026-03-01','333 × A came in','intake',1,'A','EUR',NULL);
INSERT INTO "entries" VALUES(2,2,'2026-03-02','667 × A came in','intake',2,'A','EUR',NULL);
INSERT INTO "entries" VALUES(3,3,'2026-03-01','333 × B came in','intake',3,'B','EUR',NULL);
INSERT INTO "entries" VALUES(4,4,'2026-03-02','667 × B came in','intake',4,'B','EUR',NULL);
INSERT INTO "entries" VALUES(5,5,'2026-03-12','Goods of S-1 left','shipment',1,'S-1','EUR',NULL);
INSERT INTO "entries" VALUES(6,6,'2026-03-18','Invoice to 1','invoice',1,'I-1','EUR',NULL);
INSERT INTO "entries" VALUES(7,7,'2026-03-12','Goods of S-2 left','shipment',2,'S-2','EUR',NULL);
INSERT INTO "entries" VALUES(8,8,'2026-03-18','Receipt from 1','receipt',1,'C-1','EUR',NULL);
CREATE TABLE entry_lines (
    entry_id INTEGER NOT NULL REFERENCES entries (id),
    position INTEGER NOT NULL,
    account TEXT NOT NULL REFERENCES accounts (number),
    purpose TEXT NOT NULL,
    -- Debit positive, credit negative, in base currency and in the currency of the entry.
    base_minor INTEGER NOT NULL,
    document_minor INTEGER NOT NULL,
    customer_id INTEGER REFERENCES customers (id),
    tax_code TEXT REFERENCES tax_codes (code),
    tax_base_minor INTEGER,
    PRIMARY KEY (entry_id, position),
    CHECK ((tax_code IS NULL) = (tax_base_minor IS NULL))
) STRICT, WITHOUT ROWID;
INSERT INTO "entry_lines" VALUES(1,0,'1300','inventory',1000000,1000000,NULL,NULL,NULL);
INSERT INTO "entry_lines" VALUES(1,1,'2000','supplier_clearing',-1000000,-1000000,NULL,NULL,NULL);
INSERT INTO "entry_lines" VALUES(2,0,'1300','inventory',2099999,2099999,NULL,NULL,NULL);
INSERT INTO "entry_lines" VALUES(2,1,'2000','supplier_clearing',-2099999,-2099999,NULL,NULL,NULL);
INSERT INTO "entry_lines" VALUES(3,0,'1300','inventory',1000000,1000000,NULL,NULL,NULL);
INSERT INTO "entry_lines" VALUES(3,1,'2000','supplier_clearing',-1000000,-1000000,NULL,NULL,NULL);
INSERT INTO "entry_lines" VALUES(4,0,'1300','inventory',2099999,2099999,NULL,NULL,NULL);
INSERT INTO "entry_lines" VALUES(4,1,'2000','supplier_clearing',-2099999,-2099999,NULL,NULL,NULL);
INSERT INTO "entry_lines" VALUES(5,0,'5000','cogs',75075,75075,NULL,NULL,NULL);
INSERT INTO "entry_lines" VALUES(5,1,'1300','inventory',-75075,-75075,NULL,NULL,NULL);
INSERT INTO "entry_lines" VALUES(6,0,'1100','receivable',183639,183639,1,NULL,NULL);
INSERT INTO "entry_lines" VALUES(6,1,'4000','revenue',-147500,-147500,NULL,NULL,NULL);
INSERT INTO "entry_lines" VALUES(6,2,'4200','charge_revenue',-1800,-1800,NULL,NULL,NULL);
INSERT INTO "entry_lines" VALUES(6,3,'2200','tax_payable',-34339,-34339,NULL,'S23',149300);
INSERT INTO "entry_lines" VALUES(7,0,'5000','cogs',30030,30030,NULL,NULL,NULL);
INSERT INTO "entry_lines" VALUES(7,1,'1300','inventory',-30030,-30030,NULL,NULL,NULL);
INSERT INTO "entry_lines" VALUES(8,0,'1000','bank',50000,50000,NULL,NULL,NULL);
INSERT INTO "entry_lines" VALUES(8,1,'1100','receivable',-50000,-50000,1,NULL,NULL);
CREATE TABLE exchange_rates (
    currency TEXT NOT NULL CHECK (length(currency) = 3),
    valid_from TEXT NOT NULL CHECK (valid_from = date(valid_from)),
    rate_e9 INTEGER NOT NULL CHECK (rate_e9 > 0),
    PRIMARY KEY (currency, valid_from)
) STRICT, WITHOUT ROWID;
INSERT INTO "exchange_rates" VALUES('GBP','2026-01-01',1170000000);
INSERT INTO "exchange_rates" VALUES('GBP','2026-03-20',1150000000);
CREATE TABLE invoice_lines (
    id INTEGER PRIMARY KEY,
    invoice_id INTEGER NOT NULL REFERENCES invoices (id),
    position INTEGER NOT NULL,
    shipment_line_id INTEGER NOT NULL REFERENCES shipment_lines (id),
    quantity_e4 INTEGER NOT NULL CHECK (quantity_e4 > 0),
    -- The rest is filled in when the invoice is posted.
    ordered_e4 INTEGER,
    billed_before_e4 INTEGER,
    still_to_come_e4 INTEGER,
    code TEXT,
    description TEXT,
    unit TEXT,
    unit_price_e6 INTEGER,
    list_price_e6 INTEGER,
    discount_e6 INTEGER,
    discount_reason TEXT,
    full_minor INTEGER,
    net_minor INTEGER,
    tax_code TEXT REFERENCES tax_codes (code),
    tax_category TEXT,
    tax_rate_e6 INTEGER, order_price_e6 INTEGER, price_reason TEXT, price_allowed_minor INTEGER,
    UNIQUE (invoice_id, position),
    UNIQUE (invoice_id, shipment_line_id)
) STRICT;
INSERT INTO "invoice_lines" VALUES(1,1,0,1,250000,400000,0,150000,'A','A','pc',59000000,59000000,0,NULL,147500,147500,'S23','S',230000,59000000,NULL,NULL);
INSERT INTO "invoice_lines" VALUES(2,1,1,2,10000,10000,0,0,'FRT','FRT','pc',18000000,18000000,0,NULL,1800,1800,'S23','S',230000,18000000,NULL,NULL);
CREATE TABLE invoice_orders (
    invoice_id INTEGER NOT NULL REFERENCES invoices (id),
    order_id INTEGER NOT NULL REFERENCES orders (id),
    position INTEGER NOT NULL,
    gross_minor INTEGER NOT NULL,
    -- The number the customer had given the order when it was billed.
    customer_order_number TEXT,
    PRIMARY KEY (invoice_id, order_id)
) STRICT, WITHOUT ROWID;
INSERT INTO "invoice_orders" VALUES(1,1,0,183639,NULL);
CREATE TABLE invoice_taxes (
    invoice_id INTEGER NOT NULL REFERENCES invoices (id),
    position INTEGER NOT NULL,
    tax_code TEXT NOT NULL REFERENCES tax_codes (code),
    category TEXT NOT NULL,
    rate_e6 INTEGER NOT NULL,
    base_minor INTEGER NOT NULL,
    tax_minor INTEGER NOT NULL,
    PRIMARY KEY (invoice_id, position)
) STRICT, WITHOUT ROWID;
INSERT INTO "invoice_taxes" VALUES(1,0,'S23','S',230000,149300,34339);
CREATE TABLE invoices (
    id INTEGER PRIMARY KEY,
    -- Given at posting, in order of posting.
    number TEXT UNIQUE,
    sequence INTEGER UNIQUE,
    state TEXT NOT NULL CHECK (state IN ('draft', 'posted')),
    customer_id INTEGER NOT NULL REFERENCES customers (id),
    -- On a draft: as typed, NULL for the business date.
    document_date TEXT CHECK (document_date = date(document_date)),
    posting_date TEXT CHECK (posting_date = date(posting_date)),
    tax_date TEXT CHECK (tax_date = date(tax_date)),
    due_date TEXT CHECK (due_date = date(due_date)),
    terms TEXT CHECK (terms IS NULL OR json_valid(terms)),
    currency TEXT NOT NULL CHECK (length(currency) = 3),
    rate_e9 INTEGER CHECK (rate_e9 > 0),
    net_minor INTEGER,
    tax_minor INTEGER,
    total_minor INTEGER,
    total_base_minor INTEGER,
    open_minor INTEGER CHECK (open_minor BETWEEN 0 AND total_minor),
    open_base_minor INTEGER,
    -- As printed: what the customer is called later changes nothing here.
    bill_to_name TEXT,
    bill_to_address TEXT,
    bill_to_tax_id TEXT,
    entry_id INTEGER REFERENCES entries (id),
    version INTEGER NOT NULL DEFAULT 1,
    CHECK (state = 'draft' OR (
        bill_to_name IS NOT NULL AND bill_to_address IS NOT NULL AND
        number IS NOT NULL AND sequence IS NOT NULL AND document_date IS NOT NULL AND posting_date IS NOT NULL
        AND tax_date IS NOT NULL AND due_date IS NOT NULL AND terms IS NOT NULL AND rate_e9 IS NOT NULL
        AND net_minor IS NOT NULL AND tax_minor IS NOT NULL AND total_minor = net_minor + tax_minor
        AND total_base_minor IS NOT NULL AND open_minor IS NOT NULL AND open_base_minor IS NOT NULL
        AND (open_minor > 0 OR open_base_minor = 0)))
) STRICT;
INSERT INTO "invoices" VALUES(1,'I-1',1,'posted',1,'2026-03-18','2026-03-18','2026-03-12','2026-04-17','{"kind":"net_days","days":30}','EUR',1000000000,149300,34339,183639,183639,133639,133639,'1','1 Test Road',NULL,6,3);
CREATE TABLE items (
    id INTEGER PRIMARY KEY,
    code TEXT NOT NULL UNIQUE,
    name TEXT NOT NULL,
    kind TEXT NOT NULL CHECK (kind IN ('goods', 'service', 'charge')),
    class TEXT NOT NULL,
    unit TEXT NOT NULL,
    list_price_e6 INTEGER NOT NULL CHECK (list_price_e6 >= 0),
    tax_code TEXT NOT NULL REFERENCES tax_codes (code)
) STRICT;
INSERT INTO "items" VALUES(1,'A','A','goods','goods','pc',59000000,'S23');
INSERT INTO "items" VALUES(2,'B','B','goods','goods','pc',333333,'S23');
INSERT INTO "items" VALUES(3,'FRT','FRT','charge','goods','pc',18000000,'S23');
CREATE TABLE limits (
    role TEXT NOT NULL CHECK (role IN ('clerk', 'lead', 'auditor', 'administrator')),
    kind TEXT NOT NULL CHECK (kind IN ('credit_memo', 'write_off', 'refund', 'price_change')),
    -- NULL: no limit.
    amount_minor INTEGER CHECK (amount_minor >= 0),
    PRIMARY KEY (role, kind)
) STRICT, WITHOUT ROWID;
CREATE TABLE number_ranges (
    kind TEXT PRIMARY KEY,
    prefix TEXT NOT NULL,
    first INTEGER NOT NULL CHECK (first > 0),
    next INTEGER NOT NULL CHECK (next >= first)
) STRICT, WITHOUT ROWID;
INSERT INTO "number_ranges" VALUES('entry','E-',1,9);
INSERT INTO "number_ranges" VALUES('invoice','I-',1,2);
INSERT INTO "number_ranges" VALUES('order','O-',1,4);
INSERT INTO "number_ranges" VALUES('receipt','C-',1,2);
INSERT INTO "number_ranges" VALUES('shipment','S-',1,4);
CREATE TABLE order_lines (
    id INTEGER PRIMARY KEY,
    order_id INTEGER NOT NULL REFERENCES orders (id),
    position INTEGER NOT NULL,
    item_id INTEGER NOT NULL REFERENCES items (id),
    description TEXT NOT NULL,
    ordered_e4 INTEGER NOT NULL CHECK (ordered_e4 > 0),
    cancelled_e4 INTEGER NOT NULL DEFAULT 0 CHECK (cancelled_e4 BETWEEN 0 AND ordered_e4),
    shipped_e4 INTEGER NOT NULL DEFAULT 0 CHECK (shipped_e4 BETWEEN 0 AND ordered_e4 - cancelled_e4),
    billed_e4 INTEGER NOT NULL DEFAULT 0 CHECK (billed_e4 BETWEEN 0 AND shipped_e4),
    unit_price_e6 INTEGER NOT NULL CHECK (unit_price_e6 >= 0),
    list_price_e6 INTEGER NOT NULL CHECK (list_price_e6 >= 0),
    discount_e6 INTEGER NOT NULL DEFAULT 0 CHECK (discount_e6 BETWEEN 0 AND 1000000),
    discount_reason TEXT,
    tax_code TEXT NOT NULL REFERENCES tax_codes (code),
    net_minor INTEGER NOT NULL CHECK (net_minor >= 0),
    UNIQUE (order_id, position)
) STRICT;
INSERT INTO "order_lines" VALUES(1,1,0,1,'A',400000,0,250000,250000,59000000,59000000,0,NULL,'S23',236000);
INSERT INTO "order_lines" VALUES(2,1,1,3,'FRT',10000,0,10000,10000,18000000,18000000,0,NULL,'S23',1800);
INSERT INTO "order_lines" VALUES(3,2,0,1,'A',100000,0,100000,0,59000000,59000000,0,NULL,'S23',59000);
INSERT INTO "order_lines" VALUES(4,2,1,3,'FRT',10000,0,10000,0,18000000,18000000,0,NULL,'S23',1800);
INSERT INTO "order_lines" VALUES(5,3,0,1,'A',70000,0,0,0,59000000,59000000,0,NULL,'S23',41300);
INSERT INTO "order_lines" VALUES(6,3,1,3,'FRT',10000,0,0,0,18000000,18000000,0,NULL,'S23',1800);
CREATE TABLE orders (
    id INTEGER PRIMARY KEY,
    number TEXT NOT NULL UNIQUE,
    customer_id INTEGER NOT NULL REFERENCES customers (id),
    customer_order_number TEXT,
    order_date TEXT NOT NULL CHECK (order_date = date(order_date)),
    promised_date TEXT CHECK (promised_date IS NULL OR promised_date = date(promised_date)),
    currency TEXT NOT NULL CHECK (length(currency) = 3),
    terms TEXT NOT NULL CHECK (json_valid(terms)),
    confirmed INTEGER NOT NULL DEFAULT 0 CHECK (confirmed IN (0, 1)),
    state TEXT NOT NULL DEFAULT 'draft' CHECK (state IN ('draft', 'open', 'filled', 'closed')),
    version INTEGER NOT NULL DEFAULT 1
) STRICT;
INSERT INTO "orders" VALUES(1,'O-1',1,NULL,'2026-03-01',NULL,'EUR','{"kind":"net_days","days":30}',1,'open',2);
INSERT INTO "orders" VALUES(2,'O-2',3,NULL,'2026-03-01',NULL,'GBP','{"kind":"net_days","days":30}',1,'open',2);
INSERT INTO "orders" VALUES(3,'O-3',2,NULL,'2026-03-01',NULL,'EUR','{"kind":"net_days","days":30}',1,'open',2);
CREATE TABLE people (
    id INTEGER PRIMARY KEY,
    -- As check_sign_in_name keeps it: small letters.
    sign_in TEXT NOT NULL UNIQUE CHECK (sign_in = lower(sign_in) AND length(sign_in) >= 2),
    name TEXT NOT NULL CHECK (length(name) > 0),
    role TEXT NOT NULL CHECK (role IN ('clerk', 'lead', 'auditor', 'administrator')),
    -- An argon2id hash in PHC form, never a password.
    password_hash TEXT NOT NULL CHECK (password_hash LIKE '$argon2id$%'),
    must_change INTEGER NOT NULL DEFAULT 0 CHECK (must_change IN (0, 1)),
    active INTEGER NOT NULL DEFAULT 1 CHECK (active IN (0, 1)),
    version INTEGER NOT NULL DEFAULT 1
) STRICT;
CREATE TABLE periods (
    first TEXT PRIMARY KEY CHECK (first = date(first)),
    last TEXT NOT NULL CHECK (last = date(last) AND last >= first),
    open INTEGER NOT NULL CHECK (open IN (0, 1))
) STRICT, WITHOUT ROWID;
INSERT INTO "periods" VALUES('2026-02-01','2026-02-28',0);
INSERT INTO "periods" VALUES('2026-03-01','2026-03-31',1);
INSERT INTO "periods" VALUES('2026-04-01','2026-04-30',1);
INSERT INTO "periods" VALUES('2026-05-01','2026-05-31',1);
INSERT INTO "periods" VALUES('2026-06-01','2026-06-30',1);
INSERT INTO "periods" VALUES('2026-07-01','2026-07-31',1);
INSERT INTO "periods" VALUES('2026-08-01','2026-08-31',1);
INSERT INTO "periods" VALUES('2026-09-01','2026-09-30',1);
INSERT INTO "periods" VALUES('2026-10-01','2026-10-31',1);
INSERT INTO "periods" VALUES('2026-11-01','2026-11-30',1);
INSERT INTO "periods" VALUES('2026-12-01','2026-12-31',1);
CREATE TABLE receipts (
    id INTEGER PRIMARY KEY,
    number TEXT NOT NULL UNIQUE,
    sequence INTEGER NOT NULL UNIQUE,
    customer_id INTEGER NOT NULL REFERENCES customers (id),
    method TEXT NOT NULL CHECK (method IN ('check', 'transfer', 'cash')),
    posting_date TEXT NOT NULL CHECK (posting_date = date(posting_date)),
    reference TEXT,
    currency TEXT NOT NULL CHECK (length(currency) = 3),
    rate_e9 INTEGER NOT NULL CHECK (rate_e9 > 0),
    amount_minor INTEGER NOT NULL CHECK (amount_minor > 0),
    amount_base_minor INTEGER NOT NULL,
    unapplied_minor INTEGER NOT NULL CHECK (unapplied_minor BETWEEN 0 AND amount_minor),
    unapplied_base_minor INTEGER NOT NULL,
    entry_id INTEGER NOT NULL REFERENCES entries (id),
    version INTEGER NOT NULL DEFAULT 1,
    CHECK (unapplied_minor > 0 OR unapplied_base_minor = 0)
) STRICT;
INSERT INTO "receipts" VALUES(1,'C-1',1,1,'transfer','2026-03-18',NULL,'EUR',1000000000,50000,50000,0,0,8,1);
CREATE TABLE record (
    sequence INTEGER PRIMARY KEY CHECK (sequence > 0),
    at TEXT NOT NULL,
    person_id INTEGER,
    person TEXT NOT NULL,
    from_where TEXT NOT NULL,
    asked_by TEXT,
    what TEXT NOT NULL,
    words TEXT NOT NULL,
    document_kind TEXT,
    document_id INTEGER,
    document_number TEXT,
    document_version INTEGER,
    changes TEXT NOT NULL CHECK (json_valid(changes)),
    seal TEXT NOT NULL CHECK (length(seal) = 64)
) STRICT;
INSERT INTO "record" VALUES(1,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'setting_changed','set up Small Books','setting',0,'company',NULL,'[{"field":"name","from":null,"to":"Small Books"},{"field":"base currency","from":null,"to":"EUR"},{"field":"tax is computed","from":null,"to":"per_document"}]','44f814891ea9a24ac53068e7a56c8f0710749d62b770eabed93c2aa1bb6dff56');
INSERT INTO "record" VALUES(2,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'setting_changed','order numbers begin at O-1','setting',0,'order numbers',NULL,'[]','3c1f557572051a4a1fcfe7f015599fe797f77371f3ecaf6463c86d23db126963');
INSERT INTO "record" VALUES(3,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'setting_changed','shipment numbers begin at S-1','setting',0,'shipment numbers',NULL,'[]','5e35205cfea746995de5585317d511963c4b9f9613ff805aca97f1bd7f71a25e');
INSERT INTO "record" VALUES(4,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'setting_changed','invoice numbers begin at I-1','setting',0,'invoice numbers',NULL,'[]','1a73441b1a9773591297ab59ccfb6742926ff4e514dfbde17a4d5ab9bca66be1');
INSERT INTO "record" VALUES(5,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'setting_changed','receipt numbers begin at C-1','setting',0,'receipt numbers',NULL,'[]','22ac92fc2cc84a5a2323e799e3401981fae65be3409089e1257a8274d2d3cf09');
INSERT INTO "record" VALUES(6,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'setting_changed','entry numbers begin at E-1','setting',0,'entry numbers',NULL,'[]','d08cfa01ac00258ca33f6c3feeb4f706c546b73ddab498f3ca9406bf86f01363');
INSERT INTO "record" VALUES(7,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'setting_changed','added the months up to 31 Dec 2026','setting',0,'periods',NULL,'[]','ad2156c0cdaa28901497a4093c79f8779e216474f005acbd0ac26aa1c0c8e9c6');
INSERT INTO "record" VALUES(8,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'setting_changed','closed February 2026','setting',0,'periods',NULL,'[{"field":"February 2026","from":"open","to":"closed"}]','0b9edc9eb1e06f3b6a5035e41bd6710ad47ce64085fb83b5cc930a3d11678e6c');
INSERT INTO "record" VALUES(9,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'setting_changed','added account 1000 bank','setting',0,'accounts',NULL,'[]','68f87e5fa74ab3f21ac9bd2af06ae329fbffafdc6460efa7957aff6d6d782cd4');
INSERT INTO "record" VALUES(10,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'setting_changed','added account 1010 in_hand','setting',0,'accounts',NULL,'[]','964458a8c740701298ba5cc478ba1829e00be698af35855da1f4a8e82346394a');
INSERT INTO "record" VALUES(11,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'setting_changed','added account 1100 receivable','setting',0,'accounts',NULL,'[]','c04642ce38a72f6cfa344552a5dfba8cd87a8a918930f30128b5fe0e8a4a202d');
INSERT INTO "record" VALUES(12,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'setting_changed','added account 1300 inventory','setting',0,'accounts',NULL,'[]','4e13f5ec1ed600e010fce9e0cad58ec3078480621fea45d96b3350813ccd24b9');
INSERT INTO "record" VALUES(13,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'setting_changed','added account 2000 supplier_clearing','setting',0,'accounts',NULL,'[]','e2288adcc9e63eed9c4aec032f698da832d22f311b286409b9beb126d97c477a');
INSERT INTO "record" VALUES(14,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'setting_changed','added account 2120 unapplied','setting',0,'accounts',NULL,'[]','17dbf6a6db40272967d45cb2f718faaa9d09f42a487d99f2323e6041dd0dd189');
INSERT INTO "record" VALUES(15,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'setting_changed','added account 2200 tax_payable','setting',0,'accounts',NULL,'[]','e168e7bb20b3dbc0f7f03fc816eb53aefb1a489d19f0ffa94c5d45a0198d85a5');
INSERT INTO "record" VALUES(16,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'setting_changed','added account 4000 revenue','setting',0,'accounts',NULL,'[]','787eb04a6757fa0ae713d19fd7d992f6d0eb102357a19fd7ac4ec2188d2077ef');
INSERT INTO "record" VALUES(17,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'setting_changed','added account 4200 charge_revenue','setting',0,'accounts',NULL,'[]','6bdd6d43b1803771130d5463daf4fd8cc4e8630b1796a56e0dabafb758686d11');
INSERT INTO "record" VALUES(18,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'setting_changed','added account 5000 cogs','setting',0,'accounts',NULL,'[]','2d7207709dd0b5d864fdb07326007285c578f10b6f904d030b819f7bf75489b7');
INSERT INTO "record" VALUES(19,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'setting_changed','added account 7000 fx_difference','setting',0,'accounts',NULL,'[]','e447f8f416bb17f36cff53b159c0fed64781fe938548774651ccb301556c2f2d');
INSERT INTO "record" VALUES(20,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'setting_changed','added tax code S23, Standard','setting',0,'tax codes',NULL,'[{"field":"valid from","from":null,"to":"2020-01-01"}]','7350c3ae53811d639895d26ad3ec7e0324455353f19c41ebf1e82e868c66821e');
INSERT INTO "record" VALUES(21,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'setting_changed','noted the exchange rate of GBP','setting',0,'exchange rates',NULL,'[{"field":"valid from","from":null,"to":"2026-01-01"}]','d803a8e5e81bd8deb90ed3226d1004cf7727c93061e222259e8c7eb1c987ca18');
INSERT INTO "record" VALUES(22,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'setting_changed','noted the exchange rate of GBP','setting',0,'exchange rates',NULL,'[{"field":"valid from","from":null,"to":"2026-03-20"}]','99c819c64f25b4c25be3e7bcede6fa6a74cdf52731d9bc43265cb256bb53a2b1');
INSERT INTO "record" VALUES(23,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'customer_added','added customer 1','customer',1,'1',1,'[{"field":"name","from":null,"to":"1"},{"field":"currency","from":null,"to":"EUR"},{"field":"terms","from":null,"to":"30 days net"}]','ff3bb91d7c702014ae650696dc8edef0247105fbd22d5dc40c02e9dc66147a09');
INSERT INTO "record" VALUES(24,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'customer_added','added customer 2','customer',2,'2',1,'[{"field":"name","from":null,"to":"2"},{"field":"currency","from":null,"to":"EUR"},{"field":"terms","from":null,"to":"30 days net"}]','33a9f8d6cbee8cf3f592e72911aa158fd2cb88844d9b82393cd9f7c931d6716f');
INSERT INTO "record" VALUES(25,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'customer_added','added customer 3','customer',3,'3',1,'[{"field":"name","from":null,"to":"3"},{"field":"currency","from":null,"to":"GBP"},{"field":"terms","from":null,"to":"30 days net"}]','9e6ea00e8a63775cd4c83c0904d881015de373d39488df681c1f2da0ed91132d');
INSERT INTO "record" VALUES(26,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'item_added','added item A','item',1,'A',NULL,'[{"field":"name","from":null,"to":"A"},{"field":"list price","from":null,"to":"59"}]','18d9318a6ff43d54d62135b5820ba26ce73df2f8515ab5e31fd7d575f8d9d31e');
INSERT INTO "record" VALUES(27,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'taken_in','took 333 of A in','intake',1,'A',NULL,'[{"field":"quantity","from":null,"to":"333"},{"field":"cost","from":null,"to":"10000.00"}]','b4e3111a8d82d9a7769a102d080a8eb2a27e953918cbd54c6b523d16b2bb4d51');
INSERT INTO "record" VALUES(28,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'taken_in','took 667 of A in','intake',2,'A',NULL,'[{"field":"quantity","from":null,"to":"667"},{"field":"cost","from":null,"to":"20999.99"}]','e317753576f42b0317802efb1d14bf26861611474da4de797f07c2197f8a095b');
INSERT INTO "record" VALUES(29,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'item_added','added item B','item',2,'B',NULL,'[{"field":"name","from":null,"to":"B"},{"field":"list price","from":null,"to":"0.333333"}]','420766ebc0e9ecdb176b0b23b8a43471ca96c4c94d51f4062c53d94391b2cdec');
INSERT INTO "record" VALUES(30,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'taken_in','took 333 of B in','intake',3,'B',NULL,'[{"field":"quantity","from":null,"to":"333"},{"field":"cost","from":null,"to":"10000.00"}]','fcfcd7c5d47eb77551cdbf5594f4a05830bc886f0e9c10548b62477b76c33010');
INSERT INTO "record" VALUES(31,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'taken_in','took 667 of B in','intake',4,'B',NULL,'[{"field":"quantity","from":null,"to":"667"},{"field":"cost","from":null,"to":"20999.99"}]','ad6c1408cc86ee05c22a2625a19b1f4614f605026f43c1e446b9f23c74106381');
INSERT INTO "record" VALUES(32,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'item_added','added item FRT','item',3,'FRT',NULL,'[{"field":"name","from":null,"to":"FRT"},{"field":"list price","from":null,"to":"18"}]','3c7fd90121df4be85bac1bf3ebda1150f04a27638b0d411154819a266d47cce2');
INSERT INTO "record" VALUES(33,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'order_entered','entered O-1','order',1,'O-1',1,'[{"field":"lines","from":null,"to":"2"}]','22740e9eed07d321e29a60816c5765fe2f98195f181e758da9283013adefe227');
INSERT INTO "record" VALUES(34,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'order_confirmed','confirmed O-1','order',1,'O-1',2,'[]','102c2bed3ec8e11635b6701e01a44f9631c17cd9d0f15b042bd118520c373e93');
INSERT INTO "record" VALUES(35,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'shipment_packed','packed S-1','shipment',1,'S-1',1,'[{"field":"order","from":null,"to":"O-1"},{"field":"lines","from":null,"to":"2"}]','d89ffc11c8f3dda50b0305af4d63ed1d382f6bdc02e7a8daa13277edd31c4348');
INSERT INTO "record" VALUES(36,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'shipment_posted','posted S-1','shipment',1,'S-1',2,'[{"field":"posting date","from":null,"to":"2026-03-12"}]','e9b28af1259dada0da32735381237787b4fbf4cd5682311462d48ee3ca05695f');
INSERT INTO "record" VALUES(37,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'invoice_posted','posted I-1 to 1','invoice',1,'I-1',NULL,'[{"field":"total","from":null,"to":"1836.39"},{"field":"due","from":null,"to":"2026-04-17"},{"field":"lines","from":null,"to":"2"}]','a72063d09ee403523d6d01a71615752ba036b860e5142648543222d6e7f78e39');
INSERT INTO "record" VALUES(38,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'order_entered','entered O-2','order',2,'O-2',1,'[{"field":"lines","from":null,"to":"2"}]','49b8bf8a8ddc8725aaeaa8a530458934153674d232fbb906e435f7004fd01a58');
INSERT INTO "record" VALUES(39,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'order_confirmed','confirmed O-2','order',2,'O-2',2,'[]','f68b598a012638b542b5025f09aa52970c188ff3a82b81f2266c7871c481a5a2');
INSERT INTO "record" VALUES(40,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'shipment_packed','packed S-2','shipment',2,'S-2',1,'[{"field":"order","from":null,"to":"O-2"},{"field":"lines","from":null,"to":"2"}]','65af440088079978ceab005c8dcd66809d74501cda25b8c7c2120078e5904300');
INSERT INTO "record" VALUES(41,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'shipment_posted','posted S-2','shipment',2,'S-2',2,'[{"field":"posting date","from":null,"to":"2026-03-12"}]','bc4910b82433baa994a7cdd41f1acd2909bb9288494e95bf16f2e72e7e1addaf');
INSERT INTO "record" VALUES(42,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'order_entered','entered O-3','order',3,'O-3',1,'[{"field":"lines","from":null,"to":"2"}]','a978e3cf03535de68caf12566ea1e432562895441b52720aca82a7fe1b0486eb');
INSERT INTO "record" VALUES(43,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'order_confirmed','confirmed O-3','order',3,'O-3',2,'[]','41e6a15589c12e93edb205d66c0d25556356568aedf8b646bced3091411c9ca3');
INSERT INTO "record" VALUES(44,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'shipment_packed','packed S-3','shipment',3,'S-3',1,'[{"field":"order","from":null,"to":"O-3"},{"field":"lines","from":null,"to":"1"}]','d3ff06d4d619c386acc68101a41326b53975b1a2d27e94482218a92e32b1ab36');
INSERT INTO "record" VALUES(45,'2026-03-18T09:00:00.000Z',NULL,'Glad Till','program',NULL,'receipt_posted','posted C-1','receipt',1,'C-1',1,'[{"field":"amount","from":null,"to":"500.00"},{"field":"I-1","from":null,"to":"500.00"}]','d2b9fb55e12344ef7caba2ae419e84c26bdc62aa6bfe9ac08fd37dc4358eec76');
CREATE TABLE record_end (
    id INTEGER PRIMARY KEY CHECK (id = 1),
    sequence INTEGER NOT NULL,
    seal TEXT NOT NULL
) STRICT;
INSERT INTO "record_end" VALUES(1,45,'d2b9fb55e12344ef7caba2ae419e84c26bdc62aa6bfe9ac08fd37dc4358eec76');
CREATE TABLE requests (
    key TEXT PRIMARY KEY,
    fingerprint TEXT NOT NULL,
    answer TEXT NOT NULL,
    made_at TEXT NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ', 'now'))
) STRICT, WITHOUT ROWID;
CREATE TABLE sessions (
    token_hash TEXT PRIMARY KEY CHECK (length(token_hash) = 64),
    person_id INTEGER NOT NULL REFERENCES people (id),
    made_at TEXT NOT NULL,
    seen_at TEXT NOT NULL,
    from_address TEXT NOT NULL
) STRICT, WITHOUT ROWID;
CREATE TABLE shipment_lines (
    id INTEGER PRIMARY KEY,
    shipment_id INTEGER NOT NULL REFERENCES shipments (id),
    position INTEGER NOT NULL,
    order_line_id INTEGER NOT NULL REFERENCES order_lines (id),
    quantity_e4 INTEGER NOT NULL CHECK (quantity_e4 > 0),
    cost_minor INTEGER NOT NULL DEFAULT 0 CHECK (cost_minor >= 0),
    drafted_e4 INTEGER NOT NULL DEFAULT 0 CHECK (drafted_e4 >= 0),
    billed_e4 INTEGER NOT NULL DEFAULT 0 CHECK (billed_e4 >= 0),
    -- Shipped, posted, and on no invoice yet: 0 while the shipment is not posted.
    unbilled_e4 INTEGER NOT NULL DEFAULT 0 CHECK (unbilled_e4 >= 0),
    UNIQUE (shipment_id, position),
    UNIQUE (shipment_id, order_line_id),
    CHECK (billed_e4 + drafted_e4 + unbilled_e4 <= quantity_e4)
) STRICT;
INSERT INTO "shipment_lines" VALUES(1,1,0,1,250000,75075,0,250000,0);
INSERT INTO "shipment_lines" VALUES(2,1,1,2,10000,0,0,10000,0);
INSERT INTO "shipment_lines" VALUES(3,2,0,3,100000,30030,0,0,100000);
INSERT INTO "shipment_lines" VALUES(4,2,1,4,10000,0,0,0,10000);
INSERT INTO "shipment_lines" VALUES(5,3,0,5,70000,0,0,0,0);
CREATE TABLE shipments (
    id INTEGER PRIMARY KEY,
    number TEXT NOT NULL UNIQUE,
    order_id INTEGER NOT NULL REFERENCES orders (id),
    customer_id INTEGER NOT NULL REFERENCES customers (id),
    state TEXT NOT NULL CHECK (state IN ('packed', 'posted')),
    packed_date TEXT NOT NULL CHECK (packed_date = date(packed_date)),
    posting_date TEXT CHECK (posting_date = date(posting_date)),
    carrier TEXT,
    consignment_number TEXT,
    entry_id INTEGER REFERENCES entries (id),
    version INTEGER NOT NULL DEFAULT 1,
    CHECK ((state = 'posted') = (posting_date IS NOT NULL))
) STRICT;
INSERT INTO "shipments" VALUES(1,'S-1',1,1,'posted','2026-03-10','2026-03-12',NULL,NULL,5,2);
INSERT INTO "shipments" VALUES(2,'S-2',2,3,'posted','2026-03-10','2026-03-12',NULL,NULL,7,2);
INSERT INTO "shipments" VALUES(3,'S-3',3,2,'packed','2026-03-10',NULL,NULL,NULL,NULL,1);
CREATE TABLE sign_in_attempts (
    name_mark TEXT PRIMARY KEY CHECK (length(name_mark) = 64),
    failures INTEGER NOT NULL CHECK (failures > 0),
    locked_until TEXT NOT NULL,
    tried_at TEXT NOT NULL
) STRICT, WITHOUT ROWID;
CREATE TABLE stock_issues (
    shipment_line_id INTEGER NOT NULL REFERENCES shipment_lines (id),
    layer_id INTEGER NOT NULL REFERENCES stock_layers (id),
    quantity_e4 INTEGER NOT NULL CHECK (quantity_e4 > 0),
    cost_minor INTEGER NOT NULL CHECK (cost_minor >= 0),
    PRIMARY KEY (shipment_line_id, layer_id)
) STRICT, WITHOUT ROWID;
INSERT INTO "stock_issues" VALUES(1,1,250000,75075);
INSERT INTO "stock_issues" VALUES(3,1,100000,30030);
CREATE TABLE stock_layers (
    id INTEGER PRIMARY KEY,
    item_id INTEGER NOT NULL REFERENCES items (id),
    posting_date TEXT NOT NULL CHECK (posting_date = date(posting_date)),
    quantity_e4 INTEGER NOT NULL CHECK (quantity_e4 > 0),
    cost_minor INTEGER NOT NULL CHECK (cost_minor >= 0),
    remaining_e4 INTEGER NOT NULL CHECK (remaining_e4 BETWEEN 0 AND quantity_e4),
    remaining_cost_minor INTEGER NOT NULL CHECK (remaining_cost_minor BETWEEN 0 AND cost_minor),
    entry_id INTEGER REFERENCES entries (id),
    CHECK (remaining_e4 > 0 OR remaining_cost_minor = 0)
) STRICT;
INSERT INTO "stock_layers" VALUES(1,1,'2026-03-01',3330000,1000000,2980000,894895,1);
INSERT INTO "stock_layers" VALUES(2,1,'2026-03-02',6670000,2099999,6670000,2099999,2);
INSERT INTO "stock_layers" VALUES(3,2,'2026-03-01',3330000,1000000,3330000,1000000,3);
INSERT INTO "stock_layers" VALUES(4,2,'2026-03-02',6670000,2099999,6670000,2099999,4);
CREATE TABLE tax_codes (
    code TEXT PRIMARY KEY,
    name TEXT NOT NULL,
    category TEXT NOT NULL CHECK (category IN ('S', 'Z', 'E', 'AE', 'K', 'G', 'O'))
) STRICT, WITHOUT ROWID;
INSERT INTO "tax_codes" VALUES('S23','Standard','S');
CREATE TABLE tax_rates (
    code TEXT NOT NULL REFERENCES tax_codes (code),
    valid_from TEXT NOT NULL CHECK (valid_from = date(valid_from)),
    rate_e6 INTEGER NOT NULL CHECK (rate_e6 BETWEEN 0 AND 1000000),
    PRIMARY KEY (code, valid_from)
) STRICT, WITHOUT ROWID;
INSERT INTO "tax_rates" VALUES('S23','2020-01-01',230000);
CREATE TABLE void_numbers (
    kind TEXT NOT NULL REFERENCES number_ranges (kind),
    first INTEGER NOT NULL,
    last INTEGER NOT NULL CHECK (last >= first),
    prefix TEXT NOT NULL,
    person TEXT NOT NULL,
    reason TEXT NOT NULL CHECK (length(reason) > 0),
    made_at TEXT NOT NULL,
    PRIMARY KEY (kind, first)
) STRICT, WITHOUT ROWID;
CREATE UNIQUE INDEX account_map_once ON account_map (purpose, coalesce(item_class, ''), coalesce(customer_class, ''));
CREATE INDEX customers_by_name ON customers (name);
CREATE INDEX orders_by_customer ON orders (customer_id);
CREATE INDEX orders_by_state ON orders (state, id);
CREATE INDEX stock_layers_left ON stock_layers (item_id, id) WHERE remaining_e4 > 0;
CREATE INDEX shipments_by_order ON shipments (order_id);
CREATE INDEX shipments_by_state ON shipments (state, id);
CREATE INDEX shipment_lines_unbilled ON shipment_lines (shipment_id) WHERE unbilled_e4 > 0;
CREATE INDEX shipment_lines_by_order_line ON shipment_lines (order_line_id);
CREATE INDEX invoices_by_customer ON invoices (customer_id, state);
CREATE INDEX invoices_open ON invoices (customer_id, due_date) WHERE open_minor > 0;
CREATE INDEX invoices_by_document_date ON invoices (document_date) WHERE state = 'posted';
CREATE INDEX invoice_lines_by_shipment_line ON invoice_lines (shipment_line_id);
CREATE INDEX invoice_orders_by_order ON invoice_orders (order_id);
CREATE INDEX receipts_by_customer ON receipts (customer_id);
CREATE INDEX receipts_unapplied ON receipts (id) WHERE unapplied_minor > 0;
CREATE INDEX applications_by_invoice ON applications (invoice_id);
CREATE INDEX applications_by_receipt ON applications (receipt_id);
CREATE INDEX entries_by_date ON entries (posting_date, number);
CREATE INDEX entries_by_source ON entries (source_kind, source_id);
CREATE INDEX entry_lines_by_account ON entry_lines (account, entry_id);
CREATE INDEX entry_lines_by_customer ON entry_lines (customer_id, entry_id) WHERE customer_id IS NOT NULL;
CREATE TRIGGER entries_keep BEFORE UPDATE ON entries
BEGIN SELECT RAISE(ABORT, 'a journal entry never changes'); END;
CREATE TRIGGER entries_stay BEFORE DELETE ON entries
BEGIN SELECT RAISE(ABORT, 'a journal entry is never deleted'); END;
CREATE TRIGGER entry_lines_keep BEFORE UPDATE ON entry_lines
BEGIN SELECT RAISE(ABORT, 'a journal entry never changes'); END;
CREATE TRIGGER entry_lines_stay BEFORE DELETE ON entry_lines
BEGIN SELECT RAISE(ABORT, 'a journal entry is never deleted'); END;
CREATE TRIGGER entry_lines_closed BEFORE INSERT ON entry_lines
WHEN NEW.entry_id <> (SELECT max(id) FROM entries)
BEGIN SELECT RAISE(ABORT, 'a journal entry never changes'); END;
CREATE TRIGGER shipments_keep BEFORE UPDATE OF number, order_id, customer_id, state, packed_date, posting_date, entry_id ON shipments
WHEN OLD.state = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted shipment never changes'); END;
CREATE TRIGGER shipments_stay BEFORE DELETE ON shipments WHEN OLD.state = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted shipment is never deleted'); END;
CREATE TRIGGER shipment_lines_keep BEFORE UPDATE OF shipment_id, position, order_line_id, quantity_e4, cost_minor ON shipment_lines
WHEN (SELECT state FROM shipments WHERE id = OLD.shipment_id) = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted shipment never changes'); END;
CREATE TRIGGER shipment_lines_stay BEFORE DELETE ON shipment_lines
WHEN (SELECT state FROM shipments WHERE id = OLD.shipment_id) = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted shipment is never deleted'); END;
CREATE TRIGGER shipment_lines_closed BEFORE INSERT ON shipment_lines
WHEN (SELECT state FROM shipments WHERE id = NEW.shipment_id) = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted shipment never changes'); END;
CREATE TRIGGER invoices_keep BEFORE UPDATE OF number, sequence, state, customer_id, document_date, posting_date, tax_date,
    due_date, terms, currency, rate_e9, net_minor, tax_minor, total_minor, total_base_minor, bill_to_name,
    bill_to_address, bill_to_tax_id, entry_id ON invoices
WHEN OLD.state = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted invoice never changes'); END;
CREATE TRIGGER invoices_stay BEFORE DELETE ON invoices WHEN OLD.state = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted invoice is never deleted'); END;
CREATE TRIGGER invoice_lines_keep BEFORE UPDATE ON invoice_lines
WHEN (SELECT state FROM invoices WHERE id = OLD.invoice_id) = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted invoice never changes'); END;
CREATE TRIGGER invoice_lines_stay BEFORE DELETE ON invoice_lines
WHEN (SELECT state FROM invoices WHERE id = OLD.invoice_id) = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted invoice is never deleted'); END;
CREATE TRIGGER invoice_lines_closed BEFORE INSERT ON invoice_lines
WHEN (SELECT state FROM invoices WHERE id = NEW.invoice_id) = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted invoice never changes'); END;
CREATE TRIGGER invoice_taxes_keep BEFORE UPDATE ON invoice_taxes
BEGIN SELECT RAISE(ABORT, 'a posted invoice never changes'); END;
CREATE TRIGGER invoice_taxes_stay BEFORE DELETE ON invoice_taxes
BEGIN SELECT RAISE(ABORT, 'a posted invoice never changes'); END;
CREATE TRIGGER invoice_taxes_closed BEFORE INSERT ON invoice_taxes
WHEN (SELECT state FROM invoices WHERE id = NEW.invoice_id) = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted invoice never changes'); END;
CREATE TRIGGER invoice_orders_keep BEFORE UPDATE ON invoice_orders
BEGIN SELECT RAISE(ABORT, 'a posted invoice never changes'); END;
CREATE TRIGGER invoice_orders_stay BEFORE DELETE ON invoice_orders
BEGIN SELECT RAISE(ABORT, 'a posted invoice never changes'); END;
CREATE TRIGGER invoice_orders_closed BEFORE INSERT ON invoice_orders
WHEN (SELECT state FROM invoices WHERE id = NEW.invoice_id) = 'posted'
BEGIN SELECT RAISE(ABORT, 'a posted invoice never changes'); END;
CREATE TRIGGER receipts_keep BEFORE UPDATE OF number, sequence, customer_id, method, posting_date, reference, currency,
    rate_e9, amount_minor, amount_base_minor, entry_id ON receipts
BEGIN SELECT RAISE(ABORT, 'a posted receipt never changes'); END;
CREATE TRIGGER receipts_stay BEFORE DELETE ON receipts
BEGIN SELECT RAISE(ABORT, 'a posted receipt is never deleted'); END;
CREATE TRIGGER applications_keep BEFORE UPDATE ON applications
BEGIN SELECT RAISE(ABORT, 'an application never changes; it is reversed'); END;
CREATE TRIGGER applications_stay BEFORE DELETE ON applications
BEGIN SELECT RAISE(ABORT, 'an application is never deleted; it is reversed'); END;
CREATE TRIGGER stock_issues_keep BEFORE UPDATE ON stock_issues
BEGIN SELECT RAISE(ABORT, 'a stock issue never changes'); END;
CREATE TRIGGER stock_issues_stay BEFORE DELETE ON stock_issues
BEGIN SELECT RAISE(ABORT, 'a stock issue is never deleted'); END;
CREATE TRIGGER stock_layers_keep BEFORE UPDATE OF item_id, posting_date, quantity_e4, cost_minor ON stock_layers
BEGIN SELECT RAISE(ABORT, 'goods taken in never change'); END;
CREATE TRIGGER stock_layers_stay BEFORE DELETE ON stock_layers
BEGIN SELECT RAISE(ABORT, 'goods taken in are never deleted'); END;
CREATE INDEX sessions_by_person ON sessions (person_id);
CREATE INDEX approvals_waiting ON approvals (id) WHERE state = 'waiting';
CREATE INDEX approvals_by_document ON approvals (document_kind, document_id);
CREATE UNIQUE INDEX approvals_once ON approvals (operation, document_kind, document_id, asked) WHERE state = 'waiting';
CREATE TRIGGER approvals_keep BEFORE UPDATE ON approvals WHEN OLD.state <> 'waiting'
BEGIN SELECT RAISE(ABORT, 'a decided approval never changes'); END;
CREATE TRIGGER approvals_stay BEFORE DELETE ON approvals
BEGIN SELECT RAISE(ABORT, 'an approval is never deleted'); END;
CREATE INDEX record_by_document ON record (document_kind, document_id, sequence);
CREATE INDEX record_by_person ON record (person_id, sequence);
CREATE TRIGGER record_keeps BEFORE UPDATE ON record
BEGIN SELECT RAISE(ABORT, 'the record never changes'); END;
CREATE TRIGGER record_stays BEFORE DELETE ON record
BEGIN SELECT RAISE(ABORT, 'the record is never deleted'); END;
CREATE TRIGGER record_follows BEFORE INSERT ON record
WHEN NEW.sequence <> (SELECT sequence FROM record_end) + 1
BEGIN SELECT RAISE(ABORT, 'the record is written at its end only'); END;
CREATE TRIGGER void_numbers_keep BEFORE UPDATE ON void_numbers
BEGIN SELECT RAISE(ABORT, 'void numbers never change'); END;
CREATE TRIGGER void_numbers_stay BEFORE DELETE ON void_numbers
BEGIN SELECT RAISE(ABORT, 'void numbers are never deleted'); END;
CREATE TRIGGER number_ranges_forward BEFORE UPDATE OF next ON number_ranges WHEN NEW.next < OLD.next
BEGIN SELECT RAISE(ABORT, 'numbers never go back'); END;
COMMIT;
