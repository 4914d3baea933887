"""What every answer tells the browser: what a page may load, and how long it may be kept."""

import secrets

from django.utils.cache import add_never_cache_headers


class SecurityHeaders:
    """A content security policy without inline scripts and styles, and what the page needs of the
    device: nothing.

    `request.nonce` lets the one inline script through that can't be a file, the import map. Django
    6 brings a middleware of its own for this.
    """

    def __init__(self, get_response):
        self.get_response = get_response

    def __call__(self, request):
        """The policy belongs to pages and files alike: an SVG that came in must run nothing
        either."""
        request.nonce = secrets.token_urlsafe(16)
        response = self.get_response(request)
        own = {
            "default-src": "'self'",
            "script-src": f"'self' 'nonce-{request.nonce}'",
            # The set view's and the wipe's scripts set styles by property, which needs no leave.
            "style-src": "'self'",
            "img-src": "'self' data: blob:",
            "connect-src": "'self' data: blob:",
            "object-src": "'none'",
            "base-uri": "'none'",
            "form-action": "'self'",
            "frame-ancestors": "'none'",
        }
        response.setdefault(
            "Content-Security-Policy", "; ".join(f"{key} {value}" for key, value in own.items())
        )
        response.setdefault(
            "Permissions-Policy",
            "camera=(), microphone=(), geolocation=(), payment=(), usb=(), serial=(), midi=()",
        )
        return response


class FreshPages:
    """Pages aren't kept by the browser: going back shows what is saved, never what was once
    there."""

    def __init__(self, get_response):
        self.get_response = get_response

    def __call__(self, request):
        """Pictures, scripts and styles are addressed by content, and may be kept."""
        response = self.get_response(request)
        if response.get("Content-Type", "").startswith("text/html"):
            add_never_cache_headers(response)
        return response
