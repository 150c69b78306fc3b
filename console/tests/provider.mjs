// A provider of OpenID Connect for tests: `node provider.mjs PORT FILE`. FILE holds JSON: claims that the next tokens get
// in place of their own.
import { readFileSync } from 'node:fs';
import { Events, OAuth2Server } from 'oauth2-mock-server';

const [port, file] = process.argv.slice(2);
const server = new OAuth2Server();
await server.issuer.keys.generate('RS256');
server.service.on(Events.BeforeTokenSigning, (token) => {
  Object.assign(token.payload, JSON.parse(readFileSync(file, 'utf8')));
});
await server.start(Number(port), 'localhost');
console.log(`provides at ${server.issuer.url}`);
