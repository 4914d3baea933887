"""What gunicorn serves; it doesn’t start before all is set up."""

import gc
import os

from django.core.wsgi import get_wsgi_application

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "web.config.settings")
application = get_wsgi_application()

from django.urls import get_resolver  # noqa: E402

from web.people.machine import serves_here  # noqa: E402  (Django first)
from web.people.start import refuse_unless_ready  # noqa: E402

refuse_unless_ready()
serves_here()

# Everything that pages are made of is there before the first one is asked for, and the collector of
# cycles looks through it no more: a request leaves few cycles behind.
_ = get_resolver().url_patterns
gc.collect()
gc.freeze()
gc.set_threshold(5_000, 10, 10)
