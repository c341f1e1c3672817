"""The one grammar of lines, launch texts, templates and synopses."""
