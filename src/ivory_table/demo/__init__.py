"""The made-up workshop, Tidewater Instrument Repair."""
