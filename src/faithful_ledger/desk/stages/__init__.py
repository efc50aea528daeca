"""The stages of the work, one module each: a sheet and what it puts into the margin."""
