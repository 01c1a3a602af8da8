"""Makes decimal_cases.csv: cases for rounding and spreading, worked out by Python's decimal module.

Run it from this folder: python3 make_decimal_cases.py > decimal_cases.csv
Rounding is ROUND_HALF_UP, which is half away from zero; the precision is far above what is needed.
Spreading is written here from its definition, not from the project's code.
"""

import csv
import random
import sys
from decimal import ROUND_FLOOR, ROUND_HALF_UP, Decimal, getcontext
from fractions import Fraction

getcontext().prec = 60
EXPONENTS = {"EUR": 2, "JPY": 0, "BHD": 3, "GBP": 2}
chance = random.Random(20260318)


def minor(amount, exponent):
    return int((amount * 10**exponent).quantize(Decimal(1), ROUND_HALF_UP))


def decimals(highest, places):
    value = Decimal(chance.randrange(0, highest * 10**places)) / 10**places
    return value.normalize() if chance.random() < 0.5 else value


def plain(value):
    return format(value, "f")


def spread(amount, weights):
    """Largest remainder: every part its floor, the rest one by one to the largest remainders, first come first."""
    total = sum(weights)
    sign = -1 if amount < 0 else 1
    exact = [Fraction(abs(amount) * weight, total) for weight in weights]
    parts = [int(Decimal(share.numerator // share.denominator).to_integral_value(ROUND_FLOOR)) for share in exact]
    by_remainder = sorted(range(len(weights)), key=lambda at: (-(exact[at] - parts[at]), at))
    for at in [at for at in by_remainder if weights[at]][: abs(amount) - sum(parts)]:
        parts[at] += 1
    return [sign * part for part in parts]


out = csv.writer(sys.stdout, lineterminator="\n")
out.writerow(["kind", "a", "b", "c", "d", "e", "f"])
for _ in range(1500):
    code = chance.choice(list(EXPONENTS))
    quantity, price = decimals(9000, chance.choice([0, 1, 2, 4])), decimals(5000, chance.choice([0, 2, 3, 6]))
    discount = decimals(1, chance.choice([1, 2, 3, 6]))
    full = quantity * price
    row = [minor(full, EXPONENTS[code]), minor(full * (1 - discount), EXPONENTS[code])]
    out.writerow(["line", code, plain(quantity), plain(price), plain(discount), *row])
for _ in range(1000):
    base, rate = chance.randrange(-(10**8), 10**9), decimals(1, chance.choice([2, 3, 4, 6]))
    out.writerow(["tax", base, plain(rate), minor(Decimal(base) * rate, 0), "", "", ""])
for _ in range(1000):
    source, target = chance.choice(list(EXPONENTS)), chance.choice(list(EXPONENTS))
    amount, rate = chance.randrange(-(10**7), 10**9), decimals(3, chance.choice([2, 4, 9])) + Decimal("0.000001")
    base = minor(Decimal(amount) / 10 ** EXPONENTS[source] * rate, EXPONENTS[target])
    out.writerow(["convert", source, target, amount, plain(rate), base, ""])
for _ in range(1500):
    weights = [chance.choice([0, 1, 1, 2, 3, chance.randrange(1, 10**6)]) for _ in range(chance.randrange(1, 12))]
    if not sum(weights):
        continue
    amount = chance.choice([chance.randrange(-300, 300), chance.randrange(-(10**9), 10**9)])
    parts = spread(amount, weights)
    out.writerow(["spread", amount, " ".join(map(str, weights)), " ".join(map(str, parts)), "", "", ""])
# Discounts one after the other, rounded once; a hand of their own, so that the cases above stay as they are.
more = random.Random(20261127)
for _ in range(1000):
    code = more.choice(list(EXPONENTS))
    quantity = Decimal(more.randrange(1, 9000 * 10**2)) / 10 ** more.choice([0, 2])
    price = Decimal(more.randrange(1, 5000 * 10**3)) / 10 ** more.choice([2, 3, 6])
    offs = [Decimal(more.randrange(1, 10**4)) / 10**5 for _ in range(more.choice([2, 2, 3]))]
    net = quantity * price
    for off in offs:
        net *= 1 - off
    out.writerow(["offs", code, plain(quantity), plain(price), " ".join(map(plain, offs)), minor(net, EXPONENTS[code]), ""])
