"""What gunicorn serves; it doesn’t start before all is set up."""

import os

from django.core.wsgi import get_wsgi_application

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "web.config.settings")
application = get_wsgi_application()

from web.people.machine import serves_here  # noqa: E402  (Django first)
from web.people.start import refuse_unless_ready  # noqa: E402

refuse_unless_ready()
serves_here()
