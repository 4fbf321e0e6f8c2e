// Bun. In: lines `number TAB host TAB address TAB port TAB directory of PEM files`. Out: `number TAB + | -code | !words`.
const fs = require('fs');
for (const line of fs.readFileSync(process.argv[2], 'utf8').split('\n').filter(Boolean)) {
  const [number, host, address, port, roots] = line.split('\t');
  const ca = fs.readdirSync(roots).filter((n) => n.endsWith('.pem')).sort().map((n) => fs.readFileSync(roots + '/' + n, 'utf8'));
  const where = host.includes(':') ? `[${host}]` : host;
  let said = '+';
  try {
    await fetch(`https://${where}:${port}/`, { tls: { ca }, keepalive: false, signal: AbortSignal.timeout(15000) });
  } catch (e) {
    said = '-' + (e.code || e.message);
  }
  console.log(number + '\t' + said.replace(/\s+/g, ' '));
}
