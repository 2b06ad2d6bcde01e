"""The page of a stand-in: what it holds, and buttons that send one thing."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from flask import render_template_string, request

_PAGE = """<!doctype html><html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1"><title>{{ title }}</title>
<style>
 :root { color-scheme: light dark } body { font: 16px/1.5 system-ui, sans-serif; max-width: 720px; margin: 0 auto; padding: 32px 20px }
 h1 { font-size: 22px; margin: 0 } .soft { opacity: .75 } li { overflow-wrap: anywhere; margin: 4px 0 } form { margin: 14px 0; display: flex; flex-wrap: wrap; gap: 8px; align-items: end }
 label { flex: 1 1 240px } input, select, button { font: inherit; min-height: 40px; padding: 6px 10px; box-sizing: border-box } input { width: 100% }
</style>
<p class="soft"><a href="/">All stand-ins</a></p>
<h1>{{ title }}</h1><p class="soft">A stand-in that ships with Metrikon, for trying. {{ about }}</p>
{% if links %}<ul>{% for place, label in links.items() %}<li><a href="{{ place }}">{{ label }}</a>, <code>{{ host }}{{ place }}</code></li>{% endfor %}</ul>
{% else %}<p>A connection to it has the address <code>{{ host }}</code>; from this machine alone, so that the service runs with <code>METRIKON_FETCH_PRIVATE=true</code>.</p>{% endif %}
{% for place, (label, value) in buttons.items() %}
<form method="post" action="{{ place }}">{% if value is not none %}<label>{{ label }}<input name="text" value="{{ value }}"></label><button>Send</button>{% else %}<button>{{ label }}</button>{% endif %}</form>
{% endfor %}
{% if upload %}<form method="post" action="{{ upload[0] }}" enctype="multipart/form-data"><label>{{ upload[1] }}<input type="file" name="file" required></label><button>Send</button></form>{% endif %}
{% if not links %}<ul>{% for line in lines %}<li>{{ line }}</li>{% else %}<li class="soft">Nothing yet.</li>{% endfor %}</ul>{% endif %}
{% if failing is not none %}
<form method="post" action="/failing"><label>Fail with the next calls
<select name="kind"><option value="">no more</option>{% for kind, told in failing.items() %}<option value="{{ kind }}">{{ told }}</option>{% endfor %}</select></label>
<label>How often<input name="times" value="1" inputmode="numeric"></label><button>Set</button></form>{% endif %}
</html>"""


def page(
    title: str,
    about: str,
    lines: Sequence[str],
    buttons: Mapping[str, tuple[str, str | None]],
    failing: Mapping[str, str] | None = None,
    *,
    links: Mapping[str, str] | None = None,
    upload: tuple[str, str] | None = None,
) -> str:
    """A page. `buttons`: label and, where a text is sent with it, that text, by where it is sent; `links`: other pages, each with its label; `upload`: where a
    file is sent that somebody chooses, with its label. Addresses in `about` are told whole."""
    host = request.host_url.rstrip("/")
    about = about.replace("GET /", f"GET {host}/").replace("Description: /", f"Description: {host}/")
    given = {"title": title, "about": about, "lines": lines, "buttons": buttons, "failing": failing, "links": links, "upload": upload, "host": host}
    return render_template_string(_PAGE, **given)
