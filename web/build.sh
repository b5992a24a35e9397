#!/usr/bin/env bash
# Makes bundle/ anew from src/ and the packages in package-lock.json. Only needed when one of them has changed: the
# bundle is committed, with the digest of what it was made of, which a test holds to the sources.
set -euo pipefail
cd "$(dirname "$0")"
npm ci --no-audit --no-fund
node_modules/.bin/esbuild src/mesh_page.js --bundle --minify --format=iife --target=es2020 --legal-comments=eof \
  --outfile=bundle/mesh_page.js
cat src/*.js package-lock.json | sha256sum | cut -d ' ' -f 1 > bundle/made-of.sha256
ls -l bundle
