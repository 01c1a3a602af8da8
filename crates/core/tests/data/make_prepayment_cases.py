"""Makes prepayment_cases.csv: generated orders in pounds, a share of each billed in advance, a part invoice, a cancellation
with its credit, and the last invoice.

A second computation beside the core's, in Python's decimal and integers, after domain.md sections 2, 4, 8 and 11: what a
document uses is cumulative over what is billed, the canceled part is credited and not used, the last document takes the
rest; tax = round((net - prepaid) x rate) per code; revenue is what was prepaid at its carried base and the rest at the
rate of the document.

Run it in its folder: python3 make_prepayment_cases.py > prepayment_cases.csv
"""

import csv
import random
import sys
from decimal import ROUND_HALF_UP, Decimal

RATES = {"S23": Decimal("0.23"), "S135": Decimal("0.135"), "Z0": Decimal("0")}


def cents(amount):
    return int(Decimal(amount).quantize(Decimal(1), rounding=ROUND_HALF_UP))


def share(whole, part, of):
    return cents(Decimal(whole) * part / of) if of else 0


def spread(amount, weights):
    total = sum(weights)
    if total == 0:
        return [amount] + [0] * (len(weights) - 1) if weights else []
    parts = [amount * weight // total for weight in weights]
    order = sorted(range(len(weights)), key=lambda at: (-(amount * weights[at] % total), at))
    for at in [at for at in order if weights[at]][: amount - sum(parts)]:
        parts[at] += 1
    return parts


def taxes_of(codes, nets):
    """Tax per code over some nets, rounded once."""
    sums = {}
    for code, net in zip(codes, nets):
        sums[code] = sums.get(code, 0) + net
    return {code: cents(net * RATES[code]) for code, net in sums.items()}


class Row:
    """What was prepaid of a line."""

    def __init__(self, net, base, pieces):
        self.net, self.base, self.pieces = net, base, pieces
        self.used = self.credited = self.gone_base = 0

    def give(self, net):
        """The base amount that a net takes along: cumulative, the last takes all."""
        done = self.used + self.credited + net
        base = (self.base if done == self.net else share(self.base, done, self.net)) - self.gone_base
        self.gone_base += base
        return base


def invoice(codes, prices, rows, bills, rate):
    """An invoice over pieces of lines: (line, pieces, what is used of its row)."""
    lines = [at for at, pieces, _ in bills if pieces]
    nets = [prices[at] * pieces - used for at, pieces, used in bills if pieces]
    bases = []
    for at, pieces, used in bills:
        if pieces:
            bases.append(rows[at].give(used))
            rows[at].used += used
    taxes = taxes_of([codes[at] for at in lines], nets)
    total = sum(nets) + sum(taxes.values())
    revenue = cents(total * rate) - sum(cents(tax * rate) for tax in taxes.values()) + sum(bases)
    used = sum(used for _, pieces, used in bills if pieces)
    return f"{total}:{sum(taxes.values())}:{used}:{sum(bases)}:{revenue}"


def main():
    random.seed(16)
    out = csv.writer(sys.stdout, lineterminator="\n")
    out.writerow(["lines", "percent", "at", "later", "first", "canceled", "ahead", "part", "credit", "last"])
    for _ in range(2000):
        count = random.randint(1, 3)
        codes = [random.choice(list(RATES)) for _ in range(count)]
        pieces = [random.randint(1, 12) for _ in range(count)]
        prices = [random.randint(10, 90_000) for _ in range(count)]
        percent = random.randint(1, 100)
        at, later = (Decimal(random.randint(50_000, 200_000)) / 100_000 for _ in range(2))
        asked = [cents(Decimal(price * many * percent) / 100) for price, many in zip(prices, pieces)]
        kept = [line for line in range(count) if asked[line]]
        if len(kept) < count:
            continue
        taxes = taxes_of(codes, asked)
        total = sum(asked) + sum(taxes.values())
        bases = spread(cents(total * at) - sum(cents(tax * at) for tax in taxes.values()), asked)
        rows = [Row(net, base, many) for net, base, many in zip(asked, bases, pieces)]
        ahead = f"{total}:{cents(total * at)}:{sum(taxes.values())}:{sum(bases)}"
        first = [random.randint(0, many) for many in pieces]
        canceled = [random.randint(0, many - one) for many, one in zip(pieces, first)]
        bills = [(line, one, share(row.net, one, row.pieces)) for line, (one, row) in enumerate(zip(first, rows))]
        bills = [(line, one, row.net if one == row.pieces else used) for (line, one, used), row in zip(bills, rows)]
        part = invoice(codes, prices, rows, bills, later)
        credits = []
        for line, row in enumerate(rows):
            rest = row.net - row.used
            done = first[line] + canceled[line] == pieces[line]
            credits.append(rest if done else share(row.net, canceled[line], row.pieces))
        credit_bases = []
        for row, net in zip(rows, credits):
            credit_bases.append(row.give(net) if net else 0)
            row.credited += net
        credited = [(code, net) for code, net in zip(codes, credits) if net]
        credit_taxes = {}
        for code in {code for code, _ in credited}:
            of_code = sum(net for other, net in credited if other == code)
            whole = sum(net for other, net in zip(codes, asked) if other == code)
            credit_taxes[code] = taxes[code] if of_code == whole else cents(of_code * RATES[code])
        credit = f"{sum(credits)}:{sum(credit_taxes.values())}:{sum(credit_bases)}"
        rest = [many - one - gone for many, one, gone in zip(pieces, first, canceled)]
        bills = [(line, left, rows[line].net - rows[line].used - rows[line].credited) for line, left in enumerate(rest)]
        last = invoice(codes, prices, rows, bills, later)
        if any(row.net - row.used - row.credited for row in rows) or any(row.base - row.gone_base for row in rows):
            raise SystemExit("something is left")
        text = " ".join(f"{code}:{many}:{price}" for code, many, price in zip(codes, pieces, prices))
        join = lambda numbers: " ".join(str(number) for number in numbers)
        out.writerow([text, percent, at, later, join(first), join(canceled), ahead, part, credit, last])


main()
