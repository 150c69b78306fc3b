// Verifies a job's identity as an outside system would, with a library of its own: `node identity.mjs ISSUER AUDIENCE < TOKEN`.
// Prints the claims, or fails.
import { readFileSync } from 'node:fs';
import { createRemoteJWKSet, jwtVerify } from 'jose';

const [issuer, audience] = process.argv.slice(2);
const found = await fetch(`${issuer}/.well-known/openid-configuration`);
const discovery = await found.json();
if (discovery.issuer !== issuer) throw new Error(`another issuer: ${discovery.issuer}`);
const keys = createRemoteJWKSet(new URL(discovery.jwks_uri));
const token = readFileSync(0, 'utf8').trim();
const { payload, protectedHeader } = await jwtVerify(token, keys, { issuer, audience, algorithms: ['ES256'] });
console.log(JSON.stringify({ payload, protectedHeader }));
