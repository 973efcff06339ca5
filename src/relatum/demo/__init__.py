"""The demo: a made-up wholesale plant nursery, with its model, its data and the blemishes of real data."""
