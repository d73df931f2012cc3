"""One-click unsubscribe (RFC 8058): links, the page behind them, and how requests were met."""
