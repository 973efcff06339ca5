"""``python -m relatum``."""

from relatum.start import main

if __name__ == "__main__":
    main()
