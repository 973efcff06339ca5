"""Connections to engines that hold a model's data: asked by queries, sent small relations, never written to."""
