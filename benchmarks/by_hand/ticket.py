import argparse

PORTS = ["Skerry", "Holm", "Voe"]
EACH = 4.50


def main():
    parser = argparse.ArgumentParser(prog="ticket", description="What a crossing costs.")
    parser.add_argument("origin", choices=PORTS)
    parser.add_argument("destination", choices=PORTS)
    parser.add_argument("-n", "--riders", default="1", help="how many ride, 1 to 60")
    parser.add_argument("--bike", action="store_true", help="each with a bike")
    parser.add_argument("--car", action="store_true", help="in one car")
    parser.add_argument("-s", "--save", metavar="FILE", help="write the ticket there too")
    given = parser.parse_args()
    riders = int(given.riders)
    price = EACH * riders
    if given.bike:
        price += 3 * riders
    if given.car:
        price += 21
    text = f"{price:.2f}"
    print(text)
    if given.save:
        with open(given.save, "w") as file:
            file.write(f"{given.origin}-{given.destination} {text}\n")


main()
