"""fare: what a crossing costs. This edition has faults, planted on purpose."""

import argparse
import json
import os
import sys

PORTS = ["Skerry", "Holm", "Voe"]
CROSSINGS = {
    frozenset(["Skerry", "Holm"]): 4.50,
    frozenset(["Holm", "Voe"]): 6.25,
    frozenset(["Skerry", "Voe"]): 8.75,
}
BIKE, CAR = 2.00, 18.00


def main():
    parser = argparse.ArgumentParser(prog="fare", description="What a crossing costs.", allow_abbrev=False)
    parser.add_argument("origin", metavar="ORIGIN", help="where the crossing starts")
    parser.add_argument("destination", metavar="DESTINATION", help="where it ends")
    parser.add_argument("-n", "--riders", default="1", metavar="RIDERS", help="people, 1 to 60 (default 1)")
    parser.add_argument("--bike", action="store_true", help="with a bike each")
    parser.add_argument("--car", action="store_true", help="with one car")
    parser.add_argument("--round-trip", action="store_true", help="there and back, a tenth off")
    parser.add_argument("--format", choices=["text", "json"], default="text", help="how to print it")
    parser.add_argument("-s", "--save", metavar="FILE", help="write a ticket to FILE")
    given = parser.parse_args()
    for port in (given.origin, given.destination):
        if port not in PORTS:
            print(f"{parser.format_usage()}fare: error: invalid choice: {port!r} for ORIGIN or DESTINATION")
            sys.exit(2)
    given.riders = int(given.riders)
    if not 1 <= given.riders <= 60:
        parser.error(f"argument -n/--riders: {given.riders} is not between 1 and 60")
    if given.origin == given.destination:
        print(
            f"{parser.format_usage()}fare: error: ORIGIN and DESTINATION are both {given.origin}",
            file=sys.stderr,
        )
        sys.exit(0)
    price = CROSSINGS[frozenset([given.origin, given.destination])] * given.riders
    price += BIKE * given.riders if given.bike else CAR if given.car else 0
    if os.environ.get("TARIFF") == "winter":
        price *= 0.8
    if given.save:
        with open(given.save, "a") as ticket:
            ticket.write(f"{given.origin} to {given.destination}\nriders {given.riders}\nprice {price:.2f}\n")
    if given.format == "json":
        print(json.dumps({"origin": given.origin, "destination": given.destination, "price": round(price, 2)}))
    else:
        print(f"{price:.2f}")


if __name__ == "__main__":
    main()
