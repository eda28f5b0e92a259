from .downloading import digest_of_url as digest_of_url
from .downloading import download as download
from .patches import Misfit as Misfit
from .patches import misfits as misfits
from .repository import check_out as check_out
from .unpack import Limits as Limits
from .unpack import is_archive as is_archive
from .unpack import unpack_archive as unpack_archive
