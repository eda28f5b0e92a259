from .graph import Drawn as Drawn
from .graph import dot_of as dot_of
from .graph import drawn_graph as drawn_graph
from .graph import figure_of as figure_of
from .graph import tree_of as tree_of
from .timeline import longest_way as longest_way
from .timeline import timeline_figure as timeline_figure
