"""Everything the product does, without an interface: no Qt, no printing. Imports run one way (see DESIGN in docs)."""
