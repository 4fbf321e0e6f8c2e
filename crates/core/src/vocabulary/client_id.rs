//! The clients by name.

crate::words! {
    /// A program that connects, or a body of rules.
    #[derive(PartialOrd, Ord, Hash)]
    pub enum Client: "client" {
        /// RFC 5280 and RFC 9525 alone.
        Standard = "standard",
        /// curl with OpenSSL.
        Curl = "curl",
        /// Chromium and what is built of it.
        Chromium = "chromium",
        /// Firefox.
        Firefox = "firefox",
        /// Node.js.
        Node = "node",
        /// Python's ssl module.
        Python = "python",
        /// The JVM.
        Java = "java",
        /// Programs made with Go.
        Go = "go",
        /// wget and what else is made with GnuTLS.
        Gnutls = "gnutls",
        /// Bun, whose library is BoringSSL.
        Bun = "bun",
        /// gRPC's core, as Python's grpcio and others bring it, with BoringSSL.
        Grpc = "grpc",
        /// Safari, from what Apple has published.
        Safari = "safari",
        /// Windows' own library, from what Microsoft has published.
        Windows = "windows",
    }
}

impl Client {
    /// The name by which people know it, as a sentence has it.
    pub fn title(self) -> &'static str {
        match self {
            Client::Standard => "The standard",
            Client::Curl => "curl",
            Client::Chromium => "Chromium",
            Client::Firefox => "Firefox",
            Client::Node => "Node.js",
            Client::Python => "Python",
            Client::Java => "Java",
            Client::Go => "Go",
            Client::Gnutls => "wget (GnuTLS)",
            Client::Bun => "Bun",
            Client::Grpc => "gRPC",
            Client::Safari => "Safari",
            Client::Windows => "Windows",
        }
    }
}
