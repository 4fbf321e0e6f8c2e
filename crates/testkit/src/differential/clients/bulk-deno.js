// Deno. In: lines `number TAB host TAB address TAB port TAB directory of PEM files`. Out: `number TAB + | -words | !words`.
for (const line of Deno.readTextFileSync(Deno.args[0]).split('\n').filter(Boolean)) {
  const [number, host, address, port, roots] = line.split('\t');
  const names = [...Deno.readDirSync(roots)].map((e) => e.name).filter((n) => n.endsWith('.pem')).sort();
  const all = names.map((n) => Deno.readTextFileSync(roots + '/' + n));
  let said = '+';
  try {
    // A root that it cannot read makes it refuse them all: it is left out, as a person would have to.
    const caCerts = [];
    for (const pem of all) {
      try {
        const client = Deno.createHttpClient({ caCerts: [pem] });
        client.close();
        caCerts.push(pem);
      } catch (_) { /* not read */ }
    }
    const plain = await Deno.connect({ hostname: address, port: Number(port) });
    const tls = await Deno.startTls(plain, { hostname: host, caCerts });
    const late = setTimeout(() => { try { tls.close(); } catch (_) { /* closed */ } }, 15000);
    await tls.handshake();
    await tls.write(new TextEncoder().encode('GET / HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n'));
    await tls.read(new Uint8Array(100));
    clearTimeout(late);
    try { tls.close(); } catch (_) { /* closed */ }
  } catch (e) {
    said = '-' + e.message;
  }
  console.log(number + '\t' + said.replace(/\s+/g, ' '));
}
Deno.exit(0);
