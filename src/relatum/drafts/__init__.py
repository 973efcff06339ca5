"""From raw data to a proposed model, each proposal with its evidence."""
