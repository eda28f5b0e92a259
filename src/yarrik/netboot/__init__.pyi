from .http import HttpServer as HttpServer
from .offering import Offered as Offered
from .offering import OfferedFile as OfferedFile
from .offering import Offering as Offering
from .offering import Request as Request
from .tftp import TftpServer as TftpServer
