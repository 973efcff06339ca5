"""Reports: texts, key figures, charts and tables on one page, ready to be read or printed."""
