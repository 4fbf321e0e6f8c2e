# Ruby's Net::HTTP. In: lines `number TAB host TAB address TAB port TAB directory of PEM files`. Out: `number TAB + | -words | !words`.
require 'net/http'
require 'openssl'

File.foreach(ARGV[0]) do |line|
  number, host, address, port, roots = line.chomp.split("\t")
  store = OpenSSL::X509::Store.new
  Dir.glob(roots + '/*.pem').sort.each do |name|
    store.add_file(name)
  rescue OpenSSL::X509::StoreError
    nil
  end
  http = Net::HTTP.new(host, port.to_i, nil)
  http.use_ssl = true
  http.cert_store = store
  http.ipaddr = address
  http.open_timeout = 15
  http.read_timeout = 15
  http.max_retries = 0
  shaken = false
  said = begin
    http.start { shaken = true; http.request(Net::HTTP::Get.new('/')) }
    '+'
  rescue OpenSSL::SSL::SSLError => e
    '-' + e.message
  rescue NoMethodError, OpenSSL::ASN1::ASN1Error => e
    '-' + e.class.name
  rescue StandardError => e
    shaken ? '+' : '!' + e.class.name + ' ' + e.message
  end
  puts number + "\t" + said.scrub.split.join(' ')
  $stdout.flush
end
