"""Why a cell is what it is: its filters, its formula part by part, the rows behind it, and two cells taken apart."""
