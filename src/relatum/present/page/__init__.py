"""The page of a grid: one file that a browser opens, with nothing fetched from anywhere."""
