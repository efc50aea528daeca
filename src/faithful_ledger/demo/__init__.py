"""The demo: a book of the made-up game Brinewick, and an example that goes through the real window by itself."""
