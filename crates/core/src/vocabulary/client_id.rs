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
        /// git over HTTPS, made with GnuTLS.
        Git = "git",
        /// Ruby's Net::HTTP.
        Ruby = "ruby",
        /// PHP's streams.
        Php = "php",
        /// Deno, whose library is webpki.
        Deno = "deno",
        /// psql and what else is made with libpq, asked for sslmode=verify-full.
        Psql = "psql",
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
            Client::Git => "git",
            Client::Ruby => "Ruby",
            Client::Php => "PHP",
            Client::Deno => "Deno",
            Client::Psql => "psql",
            Client::Safari => "Safari",
            Client::Windows => "Windows",
        }
    }

    /// Whose procedure it follows.
    pub fn library(self) -> Library {
        match self {
            Client::Curl | Client::Python | Client::Node | Client::Ruby | Client::Php | Client::Psql => {
                Library::OpenSsl
            }
            Client::Bun | Client::Grpc => Library::BoringSsl,
            Client::Gnutls | Client::Git => Library::Gnutls,
            Client::Java => Library::Jvm,
            Client::Go => Library::Go,
            Client::Chromium => Library::Chromium,
            Client::Firefox => Library::Mozilla,
            Client::Deno => Library::Webpki,
            Client::Standard | Client::Safari | Client::Windows => Library::Rules,
        }
    }

    /// Where its roots usually come from.
    pub fn roots(self) -> Roots {
        match self {
            Client::Chromium | Client::Firefox => Roots::Person,
            Client::Java => Roots::Jvm,
            Client::Node | Client::Deno | Client::Psql => Roots::Variable,
            Client::Standard | Client::Safari | Client::Windows => Roots::Elsewhere,
            _ => Roots::Machine,
        }
    }

    /// True if it speaks only a protocol of its own, over which nobody else comes.
    pub fn is_of_one_protocol(self) -> bool {
        self == Client::Psql
    }
}

/// Where a client's roots usually come from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Roots {
    /// The machine's bundle or hashed directory.
    Machine,
    /// A store of the person's.
    Person,
    /// The JVM's store.
    Jvm,
    /// No store that is installed: a variable or a file of the person's leads it to them.
    Variable,
    /// It is no program, or it is at home on another system.
    Elsewhere,
}

/// Whose procedure judges a chain.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Library {
    /// OpenSSL 3.
    OpenSsl,
    /// BoringSSL.
    BoringSsl,
    /// GnuTLS.
    Gnutls,
    /// The JVM's own.
    Jvm,
    /// Go's crypto/x509.
    Go,
    /// Chromium's path builder.
    Chromium,
    /// mozilla::pkix.
    Mozilla,
    /// rustls' webpki.
    Webpki,
    /// None was measured: rules that were written down.
    Rules,
}
