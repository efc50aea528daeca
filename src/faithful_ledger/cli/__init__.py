"""The command line: thin, the core does the work. Its words and its JSON are fixed; scripts rely on them."""
