"""Makes deposit_cases.csv: deposits of generated orders in pounds and what their two part invoices come to.

A second computation beside the core's, in Python's decimal and integers, after domain.md sections 2, 4, 8 and 11:
tax is taken out of the deposit by code, each invoice uses what it can of it, never more of a code than it has; the
total is what is due at the rate of the invoice and what is covered at the rate of the deposit.

Run it in its folder: python3 make_deposit_cases.py > deposit_cases.csv
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


def taxes_of(lines):
    """Per code in the order of the lines: net and tax, rounded once."""
    nets = {}
    for code, net in lines:
        nets[code] = nets.get(code, 0) + net
    return {code: (net, cents(net * RATES[code])) for code, net in nets.items()}


def take(amount, gross, rate):
    held = {}
    for code, part in zip(gross, spread(amount, list(gross.values()))):
        net = cents(Decimal(part) / (1 + RATES[code]))
        held[code] = [net, part - net]
    bases = [cents(tax * rate) for _, tax in held.values()]
    nets = spread(cents(amount * rate) - sum(bases), [net for net, _ in held.values()])
    return {code: [*pair, net, tax] for (code, pair), net, tax in zip(held.items(), nets, bases) if sum(pair)}


def use(held, room, wanted):
    """Net, tax and their base amounts that a part of the deposit uses of each code."""
    caps = {code: min(pair[0] + pair[1], sum(room.get(code, (0, 0)))) for code, pair in held.items()}
    amount = min(wanted, sum(caps.values()))
    used = {}
    for code, part in zip(caps, spread(amount, list(caps.values()))):
        if not part:
            continue
        net, tax, net_base, tax_base = held[code]
        of_tax = min(share(tax, part, net + tax), room[code][1])
        of_tax = max(min(max(of_tax, part - room[code][0]), tax), part - net)
        of_net = part - of_tax
        used[code] = [
            of_net,
            of_tax,
            net_base if of_net == net else share(net_base, of_net, net),
            tax_base if of_tax == tax else share(tax_base, of_tax, tax),
        ]
    return amount, used


def main():
    random.seed(12)
    out = csv.writer(sys.stdout, lineterminator="\n")
    out.writerow(["lines", "deposit", "at", "invoiced_at", "split", "first", "held", "posted"])
    for _ in range(2000):
        count = random.randint(2, 4)
        lines = [(random.choice(list(RATES)), random.randint(1, 40_000)) for _ in range(count)]
        gross = {code: net + tax for code, (net, tax) in taxes_of(lines).items()}
        deposit = random.randint(1, sum(gross.values()))
        at, later = (Decimal(random.randint(50_000, 200_000)) / 100_000 for _ in range(2))
        held = take(deposit, gross, at)
        taken = " ".join(f"{code}:{net}:{tax}:{nb}:{tb}" for code, (net, tax, nb, tb) in held.items())
        first = random.randint(1, count - 1)
        posted = []
        for part in (lines[:first], lines[first:]):
            taxes = taxes_of(part)
            total = sum(net + tax for net, tax in taxes.values())
            open_ = sum(net + tax for net, tax, _, _ in held.values())
            used, by_code = use(held, taxes, min(open_, total))
            for code, amounts in by_code.items():
                held[code] = [left - gone for left, gone in zip(held[code], amounts)]
            due_base = cents((total - used) * later)
            net_base = sum(amounts[2] for amounts in by_code.values())
            tax_base = sum(amounts[3] for amounts in by_code.values())
            left = sum(cents((tax - by_code.get(code, [0, 0])[1]) * later) for code, (_, tax) in taxes.items())
            revenue = due_base + net_base + tax_base - tax_base - left
            posted.append(f"{total}:{used}:{due_base}:{net_base}:{left}:{revenue}")
        text = " ".join(f"{code}:{net}" for code, net in lines)
        out.writerow([text, deposit, at, later, taken, first, sum(a[0] + a[1] for a in held.values()), " ".join(posted)])


main()
