"""Creditor references (ISO 11649) by an outside package: `pip install python-stdnum`, then
`python3 make_reference_cases.py > reference_cases.csv`. Each row: what the document is called, its reference as the package
computes the check digits, and the same with one character changed or two neighbors swapped, with what the package says of it."""

import random

from stdnum import iso11649
from stdnum.iso7064 import mod_97_10

random.seed(11649)
ALNUM = "0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZ"


def reference(body: str) -> str:
    # The check digits stand before the text: they are computed over it followed by RF.
    return "RF" + mod_97_10.calc_check_digits(body + "RF") + body


def spoiled(text: str) -> str:
    at = random.randrange(4, len(text))
    if random.random() < 0.5 and at + 1 < len(text):
        return text[:at] + text[at + 1] + text[at] + text[at + 2 :]
    return text[:at] + random.choice(ALNUM) + text[at + 1 :]


print("number,reference,other,valid")
for case in range(400):
    if case < 120:
        number = f"{random.choice(['I-', 'INV/', 'R ', '', 'A.'])}{random.randrange(1, 10 ** random.randrange(1, 9))}"
    else:
        number = "".join(random.choice(ALNUM) for _ in range(random.randrange(1, 22)))
    body = "".join(letter for letter in number.upper() if letter in ALNUM)
    made = reference(body)
    assert iso11649.is_valid(made), made
    other = spoiled(made)
    print(f"{number},{made},{other},{int(iso11649.is_valid(other))}")
