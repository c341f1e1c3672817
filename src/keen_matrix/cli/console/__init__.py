"""What the commands draw: texts made safe, lines with styles, tables, failures, progress."""
