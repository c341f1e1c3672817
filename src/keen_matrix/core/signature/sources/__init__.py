"""What a program says of itself outside its help: examples in texts, manual pages, completion
scripts. Each module reads one kind of text; nothing here launches anything."""
