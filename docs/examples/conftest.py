"""The plugin is named here, so that pytest knows its option --bench-sarif."""

pytest_plugins = ["rust_gauge.client.testing"]
