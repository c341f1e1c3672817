"""What the programs of the ferry office must answer, worked out apart from them."""

import json

TABLE = {"Holm Skerry": 4.5, "Holm Voe": 6.25, "Skerry Voe": 8.75}
ABOARD = {"Ana-Maria of Voe": 12, "Bo": 1, "Ola of Holm": 2}


def fare(origin, destination, riders, bike, car):
    """The price for so many riders, each with a bike or all with one car."""
    each = TABLE[" ".join(sorted([origin, destination]))]
    return riders * (each + (2 if bike else 0)) + (18 if car else 0)


def ticket(origin, destination, riders, bike, car, round_trip, form):
    """What is printed for a crossing, there or there and back."""
    price = round(fare(origin, destination, riders, bike, car) * (1.8 if round_trip else 1), 2)
    if form == "json":
        return json.dumps({"origin": origin, "destination": destination, "price": price})
    return f"{price:.2f}"


def high_water(port, day):
    """The time of high water: it comes fifty minutes later every day."""
    first = {"Skerry": 192, "Holm": 215, "Voe": 250}[port]
    minutes = first + (int(day) - 1) * 50
    return f"{minutes // 60:02d}:{minutes % 60:02d}"


def tide(port, day, unit, quiet):
    """What is printed of a tide."""
    if quiet:
        return high_water(port, day)
    height = {
        "m": {"Skerry": "3.4 m", "Holm": "3.1 m", "Voe": "2.8 m"},
        "ft": {"Skerry": "11.1 ft", "Holm": "10.1 ft", "Voe": "9.3 ft"},
    }[unit][port]
    return f"{port}, day {day}: high water {high_water(port, day)}, {height}"


def stopped(seats, yes):
    """Whether the question goes unanswered and nothing is printed."""
    return not yes and sum(ABOARD.values()) > seats


def aboard(title):
    """The list of those aboard."""
    lines = [title, *(f"{name:20} {count:3}" for name, count in ABOARD.items()), f"{'in all':20} {15:3}"]
    return "\n".join(lines) + "\n"


def question(seats):
    """What is asked when there are more than so many seats."""
    return f"{sum(ABOARD.values())} seats, {seats} allowed. Proceed? [y/n] "


def manifest(title, seats, yes):
    """What is printed when nobody answers the question."""
    return question(seats) + "stopped\n" if stopped(seats, yes) else aboard(title)


def answered(seats, yes, answer):
    """What is printed when somebody does."""
    if yes:
        return aboard("Manifest")
    return question(seats) + (aboard("Manifest") if answer == "y" else "stopped\n")
