<?php // PHP's streams. In: lines `number TAB host TAB address TAB port TAB directory of PEM files`. Out: `number TAB + | -words | !words`.
foreach (file($argv[1], FILE_IGNORE_NEW_LINES) as $line) {
  [$number, $host, $address, $port, $roots] = explode("\t", $line);
  $said = [];
  set_error_handler(function ($n, $words) use (&$said) { $said[] = $words; return true; });
  $bundle = '';
  foreach (glob($roots . '/*.pem') as $name) {
    if (!file_exists(substr($name, 0, -3) . 'unreadable')) $bundle .= file_get_contents($name);
  }
  file_put_contents($roots . '/php.crt', $bundle);
  $context = stream_context_create(['ssl' => ['peer_name' => $host, 'cafile' => $roots . '/php.crt', 'SNI_enabled' => true]]);
  $socket = stream_socket_client("tls://$address:$port", $code, $why, 15, STREAM_CLIENT_CONNECT, $context);
  if ($socket) {
    stream_set_timeout($socket, 15);
    fwrite($socket, "GET / HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n");
    fread($socket, 100);
    fclose($socket);
  }
  $words = implode(' | ', array_map(fn($w) => preg_replace('/\s+/', ' ', $w), $said));
  $own = '';
  foreach (['/Peer certificate CN=`.*?\' did not match expected CN=`.*?\'/', '/Peer certificate subjectAltName did not match expected name `.*?\'/', '/Unable to locate peer certificate CN/', '/error:[0-9A-F]{8}:[^|]*?(?= error:| \||$)/'] as $shape) {
    if ($own === '' && preg_match($shape, $words, $m)) $own = $m[0];
  }
  echo $number, "\t", $socket && $own === '' ? '+' : '-' . ($own === '' ? $words : $own), PHP_EOL;
}
