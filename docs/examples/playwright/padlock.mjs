// A page is opened in Chromium as a person would: certificate errors are not ignored.
import assert from "node:assert/strict";
import { readFileSync } from "node:fs";
import { createServer } from "node:https";
import { chromium } from "playwright-core";

const server = createServer(
  { cert: readFileSync("pair/certificate.pem"), key: readFileSync("pair/private-key.pem") },
  (_, answer) => answer.end("<title>Tides of Saltmarsh</title>"),
);
await new Promise((listening) => server.listen(0, "127.0.0.1", listening));

const browser = await chromium.launch({
  executablePath: process.env.CHROMIUM ?? "/usr/bin/chromium",
  // As root, in a container, Chromium wants to be without its own sandbox.
  chromiumSandbox: process.getuid() !== 0,
});
try {
  const page = await browser.newPage();
  const answer = await page.goto(`https://localhost:${server.address().port}/`);
  assert.equal(await page.title(), "Tides of Saltmarsh");
  const connection = await answer.securityDetails();
  assert.equal(connection.protocol, "TLS 1.3");
  assert.equal(await page.evaluate(() => window.isSecureContext), true);
  console.log(`Chromium opens it without a warning; issued by ${connection.issuer}`);
} finally {
  await browser.close();
  server.close();
}
