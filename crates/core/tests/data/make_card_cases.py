"""Makes card_cases.csv: cards captured over the invoices of generated orders in pounds, and the payouts that pay them.

A second computation beside the core's, in Python's decimal and integers, after domain.md sections 8 and 11: a capture goes
to the open invoices in their order, what is left over to none; it is carried at the rate of its day. What the processor
took off left at the rate of that day. The payout comes to the bank at the rate of its own day, its fees too; what the
rates make of it is a currency difference.

Run it in its folder: python3 make_card_cases.py > card_cases.csv
"""

import csv
import random
import sys
from decimal import ROUND_HALF_UP, Decimal


def base(pence, rate):
    """Euro cents of so many pence, halves away from zero."""
    return int((Decimal(pence) * rate).quantize(Decimal(1), rounding=ROUND_HALF_UP))


def main():
    random.seed(29)
    out = csv.writer(sys.stdout, lineterminator="\n")
    out.writerow(["open", "captures", "taken_off", "rate", "bank", "fees", "cleared", "difference"])
    for _ in range(2000):
        invoices = [random.randint(1, 60_000) for _ in range(random.randint(1, 4))]
        left = list(invoices)
        captures, gross, fee_now, cleared = [], 0, 0, 0
        for _ in range(random.randint(1, 4)):
            amount = random.randint(1, 50_000)
            rate = Decimal(random.randint(90_000, 130_000)) / 100_000
            fee = int((Decimal(amount) * 14 / 1000).quantize(Decimal(1), rounding=ROUND_HALF_UP))
            parts, rest = [], amount
            for at, open_ in enumerate(left):
                part = min(rest, open_)
                left[at] -= part
                rest -= part
                parts.append(part)
            captures.append(f"{amount}:{rate}:{fee}:{'/'.join(map(str, parts))}")
            gross, fee_now, cleared = gross + amount, fee_now + fee, cleared + base(amount, rate)
        taken_off = []
        for _ in range(random.randint(0, 2)):
            kind = random.choice(["refund", "charge_back"])
            amount = random.randint(1, 9_000)
            rate = Decimal(random.randint(90_000, 130_000)) / 100_000
            # The fee of a charge back was booked as the bank took the money back, and left with it.
            fee = 1_500 if kind == "charge_back" else 0
            taken_off.append(f"{kind}:{amount}:{rate}:{fee}")
            gross -= amount + fee
            cleared -= base(amount, rate) + base(fee, rate)
        at = Decimal(random.randint(90_000, 130_000)) / 100_000
        bank, fees = base(gross - fee_now, at), base(fee_now, at)
        out.writerow(
            [
                " ".join(map(str, invoices)),
                " ".join(captures),
                " ".join(taken_off),
                at,
                bank,
                fees,
                cleared,
                cleared - bank - fees,
            ]
        )


main()
