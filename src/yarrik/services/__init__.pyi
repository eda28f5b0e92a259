from .form import ServiceForm as ServiceForm
from .forms import SERVICE_FORMS as SERVICE_FORMS
from .settle import AskedService as AskedService
from .settle import OneService as OneService
from .settle import asked_services as asked_services
from .settle import check_services as check_services
from .settle import in_order as in_order
from .settle import settle_services as settle_services
