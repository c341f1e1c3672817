"""crossing: books a place on a ferry. Its spec, crossing.toml, is a first one and says too little."""

import argparse

parser = argparse.ArgumentParser(prog="crossing")
parser.add_argument("-o", "--out", required=True, help="the ticket's file")
parser.add_argument("-v", "--verbose", action="store_true", help="say more")
parser.add_argument("--deck", choices=["car", "upper", "sun"], default="upper", help="where to sit")
group = parser.add_mutually_exclusive_group()
group.add_argument("-w", "--window", metavar="SIDE", help="a place at a window")
group.add_argument("-a", "--any", action="store_true", help="any place")
parser.add_argument("port", help="the port to go to")
given = parser.parse_args()
print(f"{given.port}: {given.deck} deck")
