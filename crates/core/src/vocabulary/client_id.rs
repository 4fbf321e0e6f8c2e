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

/// What is known of a client before it connects.
struct Facts {
    title: &'static str,
    programs: &'static [&'static str],
    library: Library,
    roots: Roots,
    lists: &'static str,
}

/// A library with which every program decides for itself.
const BY_PROGRAM: &str = "only if the program itself loads the list";

impl Client {
    fn facts(self) -> Facts {
        let row = |title, programs, library, roots, lists| Facts { title, programs, library, roots, lists };
        match self {
            Client::Standard => row("The standard", &[], Library::Rules, Roots::Elsewhere, "not a program"),
            Client::Curl => row("curl", &["curl"], Library::OpenSsl, Roots::Machine, "only with --crlfile FILE"),
            Client::Chromium => row(
                "Chromium",
                &["chromium", "chromium-browser", "google-chrome-stable", "google-chrome"],
                Library::Chromium,
                Roots::Person,
                "never looks for lists of a private authority",
            ),
            Client::Firefox => row(
                "Firefox",
                &["firefox", "firefox-esr"],
                Library::Mozilla,
                Roots::Person,
                "never looks for lists of a private authority",
            ),
            Client::Node => row("Node.js", &["node"], Library::OpenSsl, Roots::Variable, BY_PROGRAM),
            Client::Python => row("Python", &["python3"], Library::OpenSsl, Roots::Machine, BY_PROGRAM),
            Client::Java => row("Java", &["java"], Library::Jvm, Roots::Jvm, BY_PROGRAM),
            Client::Go => row("Go", &["go"], Library::Go, Roots::Machine, BY_PROGRAM),
            Client::Gnutls => {
                row("wget (GnuTLS)", &["wget"], Library::Gnutls, Roots::Machine, "only with --crl-file FILE")
            }
            Client::Bun => row("Bun", &["bun"], Library::BoringSsl, Roots::Machine, BY_PROGRAM),
            Client::Grpc => row("gRPC", &["python3"], Library::BoringSsl, Roots::Machine, BY_PROGRAM),
            Client::Git => row("git", &["git"], Library::Gnutls, Roots::Machine, BY_PROGRAM),
            Client::Ruby => row("Ruby", &["ruby"], Library::OpenSsl, Roots::Machine, BY_PROGRAM),
            Client::Php => row("PHP", &["php"], Library::OpenSsl, Roots::Machine, BY_PROGRAM),
            Client::Deno => row("Deno", &["deno"], Library::Webpki, Roots::Variable, BY_PROGRAM),
            Client::Psql => row("psql", &["psql"], Library::OpenSsl, Roots::Variable, "only with sslcrl=FILE"),
            Client::Safari => row("Safari", &[], Library::Rules, Roots::Elsewhere, BY_PROGRAM),
            Client::Windows => row("Windows", &[], Library::Rules, Roots::Elsewhere, BY_PROGRAM),
        }
    }

    /// The name by which people know it, as a sentence has it.
    pub fn title(self) -> &'static str {
        self.facts().title
    }

    /// What its program is called: the first that is found is it. Empty for a body of rules, and for what is at home on another system.
    pub fn programs(self) -> &'static [&'static str] {
        self.facts().programs
    }

    /// Whose procedure it follows.
    pub fn library(self) -> Library {
        self.facts().library
    }

    /// Where its roots usually come from.
    pub fn roots(self) -> Roots {
        self.facts().roots
    }

    /// How it can be made to notice a revocation list.
    pub fn lists(self) -> &'static str {
        self.facts().lists
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
