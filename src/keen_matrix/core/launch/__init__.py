"""Launching: surroundings, child processes, the worker's event loop and the engine that feeds the
workers."""
