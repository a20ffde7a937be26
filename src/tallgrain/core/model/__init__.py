"""One model of touches: what plate, time, ways and noise make of each height that is told."""
