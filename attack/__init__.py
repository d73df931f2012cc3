"""What somebody who means harm would try, against an installation of its own: `make attack`. Short forms: tests/."""
