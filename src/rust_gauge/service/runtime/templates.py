"""HTML of pages and messages, from jinja2 templates.

What is filled in is escaped; a name that is missing is an error.
"""

from jinja2 import Environment, PackageLoader, StrictUndefined

_environment = Environment(
    loader=PackageLoader("rust_gauge.service", "templates"), autoescape=True, undefined=StrictUndefined
)


def render(name: str, **values: object) -> str:
    """Fill in a template of `service/templates`."""
    return _environment.get_template(name).render(**values)
