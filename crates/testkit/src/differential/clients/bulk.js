// Node.js and Bun. In: lines `number TAB host TAB address TAB port TAB directory of PEM files`. Out: `number TAB + | -code | !words`.
const fs = require('fs'), net = require('net'), tls = require('tls');
const { X509Certificate } = require('crypto');

function visit(host, address, port, roots) {
  const ca = [];
  for (const name of fs.readdirSync(roots).filter((n) => n.endsWith('.pem')).sort()) {
    const pem = fs.readFileSync(roots + '/' + name);
    try { new X509Certificate(pem); ca.push(pem); } catch (e) { /* not loaded by Node either */ }
  }
  return new Promise((done) => {
    let socket;
    try {
      socket = tls.connect({ host: address, port, ca, servername: net.isIP(host) ? '' : host,
        checkServerIdentity: (_, certificate) => tls.checkServerIdentity(host, certificate) });
    } catch (e) { done('-' + (e.code || e.message)); return; }
    socket.setTimeout(15000, () => { socket.destroy(); done('!time'); });
    socket.on('secureConnect', () => socket.write('GET / HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n'));
    socket.on('data', () => { socket.destroy(); done('+'); });
    socket.on('end', () => done('!ended'));
    socket.on('error', (e) => done('-' + (e.code || e.message)));
  });
}

(async () => {
  for (const line of fs.readFileSync(process.argv[2], 'utf8').split('\n').filter(Boolean)) {
    const [number, host, address, port, roots] = line.split('\t');
    const said = await visit(host, address, Number(port), roots);
    console.log(number + '\t' + said.replace(/\s+/g, ' '));
  }
})();
