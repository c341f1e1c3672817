"""What a crossing must cost, worked out apart from the programs."""

TABLE = {"Holm Skerry": 4.5, "Holm Voe": 6.25, "Skerry Voe": 8.75}


def fare(origin, destination, riders, bike, car):
    """The price for so many riders, each with a bike or all with one car."""
    each = TABLE[" ".join(sorted([origin, destination]))]
    return riders * (each + (2 if bike else 0)) + (18 if car else 0)


def high_water(port, day):
    """The time of high water: it comes fifty minutes later every day."""
    first = {"Skerry": 192, "Holm": 215, "Voe": 250}[port]
    minutes = first + (int(day) - 1) * 50
    return f"{minutes // 60:02d}:{minutes % 60:02d}"
