"""manifest: who is aboard. Reads NAME,SEATS lines from FILE (or standard input for -)."""

import sys

USAGE = "usage: manifest [--title TEXT] [--limit N] [--yes] FILE"


def refuse(message):
    print(f"manifest: {message}\n{USAGE}", file=sys.stderr)
    sys.exit(2)


def read_arguments(words):
    title, limit, yes, files = "Manifest", 40, False, []
    words = list(words)
    while words:
        word = words.pop(0)
        if word in ("-h", "--help"):
            print(
                f"{USAGE}\n\nFILE  NAME,SEATS a line; - for standard input\n--title TEXT  heading\n"
                "--limit N     most seats, 40 by default\n--yes         do not ask when there are more"
            )
            sys.exit(0)
        elif word in ("--title", "--limit"):
            if not words:
                refuse(f"{word} needs a value")
            value = words.pop(0)
            if word == "--title":
                title = value
            elif value.isascii() and value.isdecimal():
                limit = int(value)
            else:
                refuse(f"--limit must be a whole number, not '{value}'")
        elif word == "--yes":
            yes = True
        elif word == "--":
            files += words
            break
        elif word.startswith("-") and word != "-":
            refuse(f"unknown option {word}")
        else:
            files.append(word)
    if len(files) != 1:
        refuse("missing FILE" if not files else f"unexpected operand {files[1]}")
    return title, limit, yes, files[0]


def read_passengers(name):
    try:
        with sys.stdin if name == "-" else open(name, encoding="utf-8") as lines:
            rows = [line.rstrip("\n").rsplit(",", 1) for line in lines if line.strip()]
    except OSError as error:
        refuse(f"{name}: {error.strerror}")
    for row in rows:
        if len(row) != 2 or not row[1].strip().isdecimal():
            refuse(f"{name}: no NAME,SEATS line: {','.join(row)}")
    return [(passenger.strip(), int(seats)) for passenger, seats in rows]


def main():
    title, limit, yes, name = read_arguments(sys.argv[1:])
    passengers = read_passengers(name)
    if not passengers:
        print("manifest: nobody is aboard", file=sys.stderr)
        sys.exit(1)
    seats = sum(count for _, count in passengers)
    if seats > limit and not yes:
        if name == "-":
            refuse(f"{seats} seats are more than {limit}; give --yes to proceed")
        print(f"{seats} seats, {limit} allowed. Proceed? [y/n] ", end="", flush=True)
        if sys.stdin.readline().strip().lower() not in ("y", "yes"):
            print("stopped")
            sys.exit(1)
    print(title)
    for passenger, count in sorted(passengers):
        print(f"{passenger:20} {count:3}")
    print(f"{'in all':20} {seats:3}")


if __name__ == "__main__":
    main()
