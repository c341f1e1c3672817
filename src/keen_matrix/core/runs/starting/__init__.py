"""What happens before the first case: specs are adapted, built and prepared, and how the program is
started is found out.

Whatever stops a run before it has begun is raised from here, so that no journal is begun for it.
"""
