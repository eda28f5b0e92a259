"""What is drawn of what is known: graphs as text, DOT and figure."""

from yarrik.report.graph import Drawn, dot_of, drawn_graph, figure_of, tree_of

__all__ = ["Drawn", "dot_of", "drawn_graph", "figure_of", "tree_of"]
