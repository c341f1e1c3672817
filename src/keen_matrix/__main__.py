"""`python -m keen_matrix`: the same as the console script."""

import sys

from keen_matrix.entry import main

if __name__ == "__main__":
    sys.exit(main())
