"""The live page: what it may ask, the answers, and its two hosts, a local server and a notebook widget."""
