//! What Marram Hive Supply sells, and to whom. All of it is invented.

use till_core::calendar::Terms;
use till_core::invoice::ItemKind;
use till_core::treatment::Treatment;

/// An item: code, name, kind, class, unit, list price, tax code, cost of one.
pub(crate) type Item =
    (&'static str, &'static str, ItemKind, &'static str, &'static str, &'static str, &'static str, i64);

pub(crate) const ITEMS: &[Item] = &[
    ("HB-12", "Hive body, 12 frames", ItemKind::Goods, "woodenware", "pc", "32.50", "S23", 1_840),
    ("HB-SU", "Super, shallow", ItemKind::Goods, "woodenware", "pc", "21.40", "S23", 1_195),
    ("FL-PI", "Floor, pine, mesh", ItemKind::Goods, "woodenware", "pc", "18.90", "S23", 1_010),
    ("RF-AL", "Roof, sheet metal", ItemKind::Goods, "woodenware", "pc", "24.75", "S23", 1_420),
    ("FR-50", "Frames, flat, pack of 50", ItemKind::Goods, "woodenware", "pack", "46.00", "S23", 2_610),
    ("WX-BR", "Wax foundation, brood", ItemKind::Goods, "wax", "kg", "24.80", "S23", 1_655),
    ("WX-SH", "Wax foundation, shallow", ItemKind::Goods, "wax", "kg", "26.10", "S23", 1_730),
    ("JR-34", "Jars 340 g, tray of 24", ItemKind::Goods, "jars", "tray", "11.85", "S23", 640),
    ("JR-50", "Jars 500 g, tray of 20", ItemKind::Goods, "jars", "tray", "12.60", "S23", 702),
    ("LD-GD", "Lids, gold, bag of 100", ItemKind::Goods, "jars", "bag", "9.40", "S23", 455),
    ("SM-ST", "Smoker, steel", ItemKind::Goods, "tools", "pc", "38.00", "S23", 2_060),
    ("HT-JH", "Hive tool, hooked", ItemKind::Goods, "tools", "pc", "12.20", "S23", 515),
    ("EX-09", "Extractor, 9 frames", ItemKind::Goods, "tools", "pc", "1240.00", "S23", 79_400),
    ("SU-FL", "Suit with veil", ItemKind::Goods, "clothing", "pc", "94.00", "S23", 5_130),
    ("GL-LE", "Gloves, leather", ItemKind::Goods, "clothing", "pair", "19.60", "S23", 930),
    ("FD-14", "Feed syrup, 14 kg", ItemKind::Goods, "feed", "drum", "27.30", "S135", 1_780),
    ("FD-FN", "Feed fondant, 12.5 kg", ItemKind::Goods, "feed", "box", "31.90", "S135", 2_075),
    ("BK-01", "Handbook of the hive year", ItemKind::Goods, "books", "pc", "22.00", "Z0", 1_240),
    ("FRT", "Freight", ItemKind::Charge, "freight", "pc", "18.00", "S23", 0),
    ("ASM", "Assembling hives", ItemKind::Service, "service", "h", "42.00", "S23", 0),
];

/// A customer.
pub(crate) struct Customer {
    pub number: &'static str,
    pub name: &'static str,
    pub address: &'static str,
    pub country: &'static str,
    pub treatment: Treatment,
    pub tax_id: Option<&'static str>,
    pub class: Option<&'static str>,
    pub currency: &'static str,
    pub terms: fn() -> Terms,
    pub limit: Option<i64>,
    pub stop_reason: Option<&'static str>,
    pub needs_order_number: bool,
    /// How many days after the due date it usually pays; none for hardly ever.
    pub pays_after: Option<i64>,
    /// How often it orders, against the others.
    pub weight: u32,
}

const HOME: Customer = Customer {
    number: "",
    name: "",
    address: "",
    country: "MH",
    treatment: Treatment::Standard,
    tax_id: None,
    class: None,
    currency: "EUR",
    terms: || Terms::net_days(30),
    limit: Some(1_000_000),
    stop_reason: None,
    needs_order_number: false,
    pays_after: Some(0),
    weight: 4,
};

pub(crate) const CUSTOMERS: &[Customer] = &[
    Customer {
        number: "1001",
        name: "Saltmarsh Honey Co-op",
        address: "3 Sluice Road, Marram Staithe",
        limit: Some(1_200_000),
        weight: 9,
        ..HOME
    },
    Customer {
        number: "1002",
        name: "Orchard Lane Apiaries",
        address: "Orchard Lane, Nether Combe",
        terms: || Terms::net_days(14),
        pays_after: Some(-3),
        weight: 7,
        ..HOME
    },
    Customer {
        number: "1003",
        name: "Harrow & Pike Market Garden",
        address: "2 Glebe End, Upper Sallow",
        pays_after: None,
        weight: 3,
        ..HOME
    },
    Customer {
        number: "1004",
        name: "Kestrel Moor Bee Supplies",
        address: "Moor Gate 11, Kestrel Moor",
        terms: || Terms::end_of_month(15),
        needs_order_number: true,
        limit: Some(1_500_000),
        weight: 8,
        ..HOME
    },
    Customer {
        number: "1005",
        name: "Quillback Orchards",
        address: "Quillback Farm, Ebb Valley",
        pays_after: Some(4),
        weight: 5,
        ..HOME
    },
    Customer {
        number: "1006",
        name: "Tern Point Garden Centre",
        address: "Harbour Row 40, Tern Point",
        terms: || Terms::day_of_month(15),
        weight: 5,
        ..HOME
    },
    Customer {
        number: "1007",
        name: "Gannet Row Preserves",
        address: "8 Gannet Row, Marram Staithe",
        stop_reason: Some("two returned checks in January"),
        pays_after: Some(25),
        limit: Some(300_000),
        weight: 3,
        ..HOME
    },
    Customer {
        number: "1008",
        name: "Lamplight Abbey Shop",
        address: "The Gatehouse, Lamplight",
        pays_after: Some(6),
        weight: 3,
        ..HOME
    },
    Customer {
        number: "1009",
        name: "Dunlin School Farm",
        address: "Schoolhouse Way, Dunlin",
        needs_order_number: true,
        pays_after: Some(12),
        weight: 3,
        ..HOME
    },
    Customer {
        number: "1010",
        name: "Brackwater Hives",
        address: "Unit 5, The Maltings, Brackwater",
        terms: || Terms::net_days(14),
        pays_after: Some(2),
        weight: 6,
        ..HOME
    },
    Customer {
        number: "1011",
        name: "Thistledown Smallholding",
        address: "Thistledown, Far Combe",
        terms: || Terms::net_days(0),
        pays_after: Some(1),
        limit: None,
        weight: 4,
        ..HOME
    },
    Customer {
        number: "1012",
        name: "Old Quay Farm Stores",
        address: "Old Quay 1, Marram Staithe",
        pays_after: Some(9),
        weight: 5,
        ..HOME
    },
    Customer {
        number: "2001",
        name: "Ferme du Vent Clair",
        address: "Chemin du Moulin 6, Clairvent",
        country: "FX",
        treatment: Treatment::ReverseCharge,
        class: Some("union"),
        pays_after: Some(3),
        weight: 0,
        ..HOME
    },
    Customer {
        number: "2002",
        name: "Imkerhof Sandwiesen",
        address: "Am Deich 14, Sandwiesen",
        country: "DX",
        treatment: Treatment::Union,
        tax_id: Some("DX288114950"),
        class: Some("union"),
        pays_after: Some(-1),
        weight: 4,
        ..HOME
    },
    Customer {
        number: "3001",
        name: "Wennet Fold Honey",
        address: "Wennet Fold, Askrigg Bank",
        country: "GX",
        treatment: Treatment::Export,
        class: Some("abroad"),
        currency: "GBP",
        pays_after: Some(5),
        weight: 3,
        ..HOME
    },
    Customer {
        number: "3002",
        name: "Prairie Clover Outfitters",
        address: "1200 Clover Street, Sweetgrass",
        country: "UX",
        treatment: Treatment::Export,
        class: Some("abroad"),
        currency: "USD",
        terms: || Terms::net_days(45),
        pays_after: Some(0),
        weight: 2,
        ..HOME
    },
];
