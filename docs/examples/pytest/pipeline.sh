# The certificate, and the root where the test suite's libraries look: no store of the machine changes.
tamga setup localhost --stores bundle --bundle roots.pem --into pair --quiet
# What runs below this word trusts the root: requests, urllib, curl, Node.js, git, psql and more, by their own variables.
tamga run -- python3 -m pytest -q
# In a container that is thrown away this is not needed.
tamga leave --bundle roots.pem --yes --quiet
