"""Makes number_cases.csv: account numbers and payment references with the verdict of python-stdnum.

`python3 make_number_cases.py > number_cases.csv`, with python-stdnum (PyPI) installed. The file is kept, so
that the test needs no network. Right ones are made by python-stdnum itself; each has neighbors with one letter changed, two swapped,
one missing.
"""

import random

from stdnum import iso11649
from stdnum.iso7064 import mod_97_10

random.seed(20260318)
LETTERS = "0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZ"
# No country has these letters; lengths and structures of real countries are not checked here, on either side.
HEADS = ["XX", "XA", "ZZ", "QM"]


def near(text: str) -> list[str]:
    at = random.randrange(len(text) - 1)
    other = random.choice(LETTERS.replace(text[at], ""))
    return [
        text[:at] + other + text[at + 1 :],
        text[:at] + text[at + 1] + text[at] + text[at + 2 :],
        text[:at] + text[at + 1 :],
    ]


def is_iban(text: str) -> bool:
    # python-stdnum knows the lengths of real countries only; the check digits are what is compared.
    if len(text) < 15 or len(text) > 34 or not text[:2].isalpha() or not text[2:4].isdigit():
        return False
    return mod_97_10.is_valid(text[4:] + text[:4])


print("kind,text,right")
for _ in range(400):
    body = "".join(random.choice(LETTERS) for _ in range(random.randint(11, 30)))
    head = random.choice(HEADS)
    right = head + mod_97_10.calc_check_digits(body + head) + body
    assert is_iban(right)
    for text in [right, *near(right)]:
        print(f"iban,{text},{int(is_iban(text))}")
for _ in range(400):
    body = "".join(random.choice(LETTERS) for _ in range(random.randint(1, 21)))
    right = "RF" + mod_97_10.calc_check_digits(body + "RF") + body
    assert iso11649.is_valid(right)
    for text in [right, *near(right)]:
        # python-stdnum takes letters for check digits; the standard has digits.
        print(f"rf,{text},{int(iso11649.is_valid(text) and text[2:4].isdigit())}")
