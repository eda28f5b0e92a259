from .layout import DEMO_PRODUCTS as DEMO_PRODUCTS
from .layout import DemoProduct as DemoProduct
from .layout import lay_out_demo as lay_out_demo
