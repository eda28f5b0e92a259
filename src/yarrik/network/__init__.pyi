from .form import NetworkForm as NetworkForm
from .forms import NETWORK_FORMS as NETWORK_FORMS
from .settle import check_network as check_network
from .settle import in_order as in_order
from .settle import resolver_lines as resolver_lines
from .wireless import wireless_file as wireless_file
from .wireless import wireless_key as wireless_key
from .wireless import wireless_path as wireless_path
