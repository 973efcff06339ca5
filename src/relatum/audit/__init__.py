"""Looking into a model: the audit, an overview, how a formula was understood."""
