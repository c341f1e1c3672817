"""fare: what a crossing costs. This edition has one fault, planted on purpose: it takes three things at once to show."""

import argparse
import json
import os

PORTS = ["Skerry", "Holm", "Voe"]
CROSSINGS = {
    frozenset(["Skerry", "Holm"]): 4.50,
    frozenset(["Holm", "Voe"]): 6.25,
    frozenset(["Skerry", "Voe"]): 8.75,
}
BIKE, CAR = 2.00, 18.00


def riders(text):
    number = int(text)
    if not 1 <= number <= 60:
        raise argparse.ArgumentTypeError(f"{number} is not between 1 and 60")
    return number


def main():
    parser = argparse.ArgumentParser(prog="fare", description="What a crossing costs.", allow_abbrev=False)
    parser.add_argument("origin", metavar="ORIGIN", choices=PORTS, help="where the crossing starts")
    parser.add_argument("destination", metavar="DESTINATION", choices=PORTS, help="where it ends")
    parser.add_argument("-n", "--riders", type=riders, default=1, metavar="RIDERS", help="people, 1 to 60 (default 1)")
    vehicle = parser.add_mutually_exclusive_group()
    vehicle.add_argument("--bike", action="store_true", help="with a bike each")
    vehicle.add_argument("--car", action="store_true", help="with one car")
    parser.add_argument("--round-trip", action="store_true", help="there and back, a tenth off")
    parser.add_argument("--format", choices=["text", "json"], default="text", help="how to print it")
    parser.add_argument("-s", "--save", metavar="FILE", help="write a ticket to FILE")
    given = parser.parse_args()
    if given.origin == given.destination:
        parser.error(f"ORIGIN and DESTINATION are both {given.origin}")
    price = CROSSINGS[frozenset([given.origin, given.destination])] * given.riders
    price += BIKE * given.riders if given.bike else CAR if given.car else 0
    if given.round_trip and given.bike and given.riders > 9:
        price = (price - BIKE * given.riders) * 1.8 + BIKE * given.riders
    elif given.round_trip:
        price *= 1.8
    if os.environ.get("TARIFF") == "winter":
        price *= 0.8
    if given.save:
        with open(given.save, "w") as ticket:
            ticket.write(f"{given.origin} to {given.destination}\nriders {given.riders}\nprice {price:.2f}\n")
    if given.format == "json":
        print(json.dumps({"origin": given.origin, "destination": given.destination, "price": round(price, 2)}))
    else:
        print(f"{price:.2f}")


if __name__ == "__main__":
    main()
