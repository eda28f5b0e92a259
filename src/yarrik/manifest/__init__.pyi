from .lists import checksum_list as checksum_list
from .lists import describe_files as describe_files
from .lists import describe_packages as describe_packages
from .verify import verify_out as verify_out
