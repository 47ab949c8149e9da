//! `numerant deliver`.

use std::path::PathBuf;

use clap::Args;
use numerant_data::value::Size;
use numerant_engine::job::{
    DeliverJob, DeliveryChannel, DoubtPolicy, Encryption, OversizePolicy, Transport,
    WithoutCounterpart, Work,
};

use super::options::{Mode, ReportOptions, SavingOptions, choice};

const ENCRYPTIONS: &[(&str, Encryption)] = &[
    ("starttls", Encryption::StartTls),
    ("implicit", Encryption::Implicit),
    ("none", Encryption::None),
];

const COUNTERPARTS: &[(&str, WithoutCounterpart)] = &[
    ("refuse", WithoutCounterpart::Refuse),
    ("skip", WithoutCounterpart::Skip),
];

const DOUBTS: &[(&str, DoubtPolicy)] = &[
    ("name", DoubtPolicy::Name),
    ("send", DoubtPolicy::Send),
    ("skip", DoubtPolicy::Skip),
];

const OVERSIZES: &[(&str, OversizePolicy)] = &[
    ("refuse", OversizePolicy::Refuse),
    ("zip", OversizePolicy::Zip),
    ("split", OversizePolicy::Split),
];

/// Hand the outputs of a run to their people: drafts, mail, folders
#[derive(Debug, Args)]
#[command(
    after_help = "Outputs are taken from the ledger of a run (--ledger of split and others), and only if they are what \
    the run has written. The table of routes says who gets which: columns with the names of the keys, such as quay, and \
    to, cc, bcc, subject, body, folder, channel. * in a key column stands for any value; several addresses stand between commas. \
    Outputs for the same people go in one message.\n\n\
    Subject, body and HTML are templates: {quay} is a key or a column of the routes, {.rows} and {.total:COLUMN} are those \
    of the outputs in the message, {.file} and {.files} their names, {.date} and {.date:month} the day.\n\n\
    A journal beside the ledger records each message before and after it is handed over: a delivery that is repeated \
    sends what is missing, and nothing twice.\n\n\
    Examples:\n  \
    numerant split calls.csv --by quay --total dues --ledger calls.json\n  \
    numerant deliver calls.json --routes routes.csv --from port@varnholm.example --subject '{quay}: {.rows} calls' --plan\n  \
    numerant deliver calls.json --routes routes.csv --from port@varnholm.example --channel smtp --smtp mail.varnholm.example --user port\n  \
    numerant deliver calls.json --routes routes.csv --channel folder --into /mnt/departments\n  \
    numerant deliver calls.json --history"
)]
pub(crate) struct DeliverArguments {
    /// The ledger of the run whose outputs are handed over
    #[arg(value_name = "LEDGER")]
    ledger: PathBuf,
    /// Table of routes: columns of keys, and to, cc, bcc, subject, body, folder, channel
    #[arg(long, value_name = "FILE", required_unless_present = "history")]
    routes: Option<PathBuf>,
    /// Where the outputs are now [default: where the run has written them]
    #[arg(long, value_name = "DIR")]
    out: Option<PathBuf>,
    /// Hand over only outputs with this key value or path; may be repeated
    #[arg(long, value_name = "VALUE")]
    only: Vec<String>,
    /// What to do with outputs without a route
    #[arg(long, value_name = "POLICY", value_parser = choice(COUNTERPARTS), default_value = "refuse")]
    unrouted: WithoutCounterpart,
    /// What to do with routes without an output
    #[arg(long, value_name = "POLICY", value_parser = choice(COUNTERPARTS), default_value = "refuse")]
    unused: WithoutCounterpart,
    #[command(flatten)]
    message: MessageOptions,
    #[command(flatten)]
    channel: ChannelOptions,
    #[command(flatten)]
    doing: DeliveryDoing,
    #[command(flatten)]
    saving: SavingOptions,
    #[command(flatten)]
    report: ReportOptions,
}

/// What is in messages.
#[derive(Debug, Args)]
#[command(next_help_heading = "Messages")]
struct MessageOptions {
    /// Address of the sender, with or without a name
    #[arg(long, value_name = "ADDRESS")]
    from: Option<String>,
    /// Subject of messages whose route has none
    #[arg(long, value_name = "TEMPLATE", default_value = "{.file}")]
    subject: String,
    /// Text of messages whose route has none, in a file [default: the names of the files, and the number of records]
    #[arg(long, value_name = "FILE")]
    body: Option<PathBuf>,
    /// Text as HTML besides, in a file
    #[arg(long, value_name = "FILE")]
    html: Option<PathBuf>,
    /// Refuse addresses outside these domains
    #[arg(long, value_name = "DOMAIN[,DOMAIN…]", value_delimiter = ',')]
    domains: Vec<String>,
    /// Largest message
    #[arg(long, value_name = "SIZE")]
    max_message: Option<Size>,
    /// What to do with a message that is larger
    #[arg(long, value_name = "POLICY", value_parser = choice(OVERSIZES), default_value = "refuse")]
    oversize: OversizePolicy,
    /// Put files into an encrypted zip archive (AES-256) whose password is in this file; hand the password over
    /// elsewhere
    #[arg(long, value_name = "FILE")]
    encrypt: Option<PathBuf>,
}

/// How messages are handed over.
#[derive(Debug, Args)]
#[command(next_help_heading = "Channel")]
struct ChannelOptions {
    /// How to hand messages over whose route does not state it: as drafts to look at and send, by a mail server, as
    /// files in folders, to a program
    #[arg(long, value_name = "CHANNEL", value_parser = choice(DeliveryChannel::ALL), default_value = "drafts")]
    channel: DeliveryChannel,
    /// Folder of drafts, or the one that the folders of routes are in [default: drafts]
    #[arg(long, value_name = "DIR")]
    into: Option<PathBuf>,
    /// Mail server [default port: 587, or 465 with --tls implicit]
    #[arg(long, value_name = "HOST[:PORT]")]
    smtp: Option<String>,
    /// Encryption of the connection to it; its certificate is checked
    #[arg(long, value_name = "WAY", value_parser = choice(ENCRYPTIONS), default_value = "starttls")]
    tls: Encryption,
    /// User that logs in to it; the password is read from --password-file, --password-command or
    /// NUMERANT_SMTP_PASSWORD
    #[arg(long, value_name = "NAME")]
    user: Option<String>,
    /// File with the password, which only its owner may read
    #[arg(long, value_name = "FILE")]
    password_file: Option<PathBuf>,
    /// Program that prints the password, such as one that asks the keyring of the system
    #[arg(long, value_name = "COMMAND", conflicts_with = "password_file")]
    password_command: Option<String>,
    /// Seconds to wait for an answer of the mail server
    #[arg(long, value_name = "SECONDS", default_value_t = 60, value_parser = clap::value_parser!(u64).range(1..))]
    timeout: u64,
    /// Certificate (PEM) to trust besides those of the system
    #[arg(long, value_name = "FILE")]
    trust: Option<PathBuf>,
    /// Program that takes each message on its standard input, such as 'sendmail -t'
    #[arg(long, value_name = "COMMAND")]
    program: Option<String>,
    /// Messages a minute at most
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..))]
    per_minute: Option<u32>,
    /// How often to try a message again that a server may take later
    #[arg(long, value_name = "N", default_value_t = 3)]
    retries: u32,
}

/// How a delivery is done, and whether at all.
#[derive(Debug, Args)]
#[command(next_help_heading = "Running")]
struct DeliveryDoing {
    /// Show who would get what, and hand nothing over
    #[arg(long, conflicts_with = "ask")]
    plan: bool,
    /// Show who would get what, and ask first
    #[arg(long)]
    ask: bool,
    /// Send all messages to this address; their text says who they are for
    #[arg(long, value_name = "ADDRESS")]
    test_to: Option<String>,
    /// What to do with messages of an earlier delivery that may have arrived or not
    #[arg(long, value_name = "POLICY", value_parser = choice(DOUBTS), default_value = "name")]
    in_doubt: DoubtPolicy,
    /// Journal of deliveries [default: the ledger's name with .deliveries.jsonl]
    #[arg(long, value_name = "FILE")]
    journal: Option<PathBuf>,
    /// Show the journal, and hand nothing over
    #[arg(long, conflicts_with_all = ["routes", "plan", "ask"])]
    history: bool,
}

/// What is to be handed over, and how that is shown.
#[derive(Debug)]
pub(crate) struct DeliverRequest {
    pub(crate) job: DeliverJob,
    pub(crate) mode: Mode,
    /// Only the journal is shown.
    pub(crate) shows_history: bool,
    pub(crate) report: ReportOptions,
    /// Where the job is kept in place of being done, and as what.
    pub(crate) save: Option<(PathBuf, Work)>,
}

impl DeliverArguments {
    pub(crate) fn into_request(self) -> DeliverRequest {
        let mode = match (self.doing.plan, self.doing.ask) {
            (true, _) => Mode::Plan,
            (false, true) => Mode::Ask,
            (false, false) => Mode::Run,
        };
        let job = DeliverJob {
            ledger: self.ledger,
            out: self.out,
            routes: self.routes.unwrap_or_default(),
            transport: Transport {
                channel: self.channel.channel,
                into: self.channel.into,
                smtp: self.channel.smtp,
                tls: self.channel.tls,
                user: self.channel.user,
                password_file: self.channel.password_file,
                password_command: self.channel.password_command,
                timeout: self.channel.timeout,
                trust: self.channel.trust,
                program: self.channel.program,
            },
            from: self.message.from,
            subject: self.message.subject,
            body: self.message.body,
            html: self.message.html,
            only: self.only,
            test_to: self.doing.test_to,
            domains: self.message.domains,
            unrouted: self.unrouted,
            unused: self.unused,
            in_doubt: self.doing.in_doubt,
            max_message: self.message.max_message,
            oversize: self.message.oversize,
            encrypt: self.message.encrypt,
            per_minute: self.channel.per_minute,
            retries: self.channel.retries,
            journal: self.doing.journal,
        };
        let save = self.saving.save_job;
        DeliverRequest {
            save: save.map(|path| (path, Work::Deliver(Box::new(job.clone())))),
            job,
            mode,
            shows_history: self.doing.history,
            report: self.report,
        }
    }
}
