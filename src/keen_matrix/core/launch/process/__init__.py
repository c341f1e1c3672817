"""One launch of a program, from its start to the last byte of its output.

Nothing here knows of cases or of specs: a launch is given a `Start` and gives an `Outcome`.
Whatever the program does, every wait is bounded and no descriptor, process or session of it is
left."""
