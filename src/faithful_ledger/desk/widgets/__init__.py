"""Small widgets, fed with values; none of them knows the core's books or posts anything."""
