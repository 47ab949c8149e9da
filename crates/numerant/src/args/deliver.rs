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

/// Send the outputs of a run to their recipients: drafts, mail, folders
#[derive(Debug, Args)]
#[command(
    after_help = "The ledger lists the outputs, which must be unchanged since the run. The table of routes has a column for \
    each key, such as quay (* matches any value), and the columns to, cc, bcc, subject, body, folder, \
    channel; separate addresses by commas. Outputs for the same recipients go in one message.\n\n\
    Subject, body and HTML are templates: {quay} is a key or a column of the routes, {.rows} and {.total:COLUMN} \
    are sums over the outputs of the message, {.file} and {.files} their names, {.date} and {.date:month} the date.\n\n\
    A journal next to the ledger records each message before and after it is sent. If a delivery is repeated, it \
    sends only the messages that are missing.\n\n\
    Examples:\n  \
    numerant split calls.csv --by quay --total dues --ledger calls.json\n  \
    numerant deliver calls.json --routes routes.csv --from port@varnholm.example --subject '{quay}: {.rows} calls' --plan\n  \
    numerant deliver calls.json --routes routes.csv --from port@varnholm.example --channel smtp --smtp mail.varnholm.example --user port\n  \
    numerant deliver calls.json --routes routes.csv --channel folder --into /mnt/departments\n  \
    numerant deliver calls.json --history"
)]
pub(crate) struct DeliverArguments {
    /// Ledger of the run whose outputs are sent
    #[arg(value_name = "LEDGER")]
    ledger: PathBuf,
    /// Table of recipients, with columns of keys and to, cc, bcc, subject, body, folder, channel
    #[arg(long, value_name = "FILE", required_unless_present = "history")]
    routes: Option<PathBuf>,
    /// Folder of the outputs [default: where the run wrote them]
    #[arg(long, value_name = "DIR")]
    out: Option<PathBuf>,
    /// Send only outputs with this key value or path; may be repeated
    #[arg(long, value_name = "VALUE")]
    only: Vec<String>,
    /// Outputs without a route: refuse ends the delivery, skip leaves them out
    #[arg(long, value_name = "POLICY", value_parser = choice(COUNTERPARTS), default_value = "refuse")]
    unrouted: WithoutCounterpart,
    /// Routes without an output: refuse ends the delivery, skip leaves them out
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
    /// Refuse addresses in other domains
    #[arg(long, value_name = "DOMAIN[,DOMAIN…]", value_delimiter = ',')]
    domains: Vec<String>,
    /// Maximum size of a message, such as 20M
    #[arg(long, value_name = "SIZE")]
    max_message: Option<Size>,
    /// Larger messages: refuse ends the delivery, zip packs the files, split sends several messages
    #[arg(long, value_name = "POLICY", value_parser = choice(OVERSIZES), default_value = "refuse")]
    oversize: OversizePolicy,
    /// Pack files into an encrypted zip archive (AES-256) with the password in FILE; send the
    /// password separately
    #[arg(long, value_name = "FILE")]
    encrypt: Option<PathBuf>,
}

/// How messages are handed over.
#[derive(Debug, Args)]
#[command(next_help_heading = "Channel")]
struct ChannelOptions {
    /// Send messages as drafts (.eml files), by a mail server (smtp), as files in folders, or to a
    /// program (command); the channel column of a route overrides it
    #[arg(long, value_name = "CHANNEL", value_parser = choice(DeliveryChannel::ALL), default_value = "drafts")]
    channel: DeliveryChannel,
    /// Folder for drafts, or the parent of the routes' folders [default: drafts]
    #[arg(long, value_name = "DIR")]
    into: Option<PathBuf>,
    /// Mail server [default port: 587, or 465 with --tls implicit]
    #[arg(long, value_name = "HOST[:PORT]")]
    smtp: Option<String>,
    /// Encryption of the connection to the mail server; its certificate is checked
    #[arg(long, value_name = "WAY", value_parser = choice(ENCRYPTIONS), default_value = "starttls")]
    tls: Encryption,
    /// User name for the mail server; the password is read from --password-file, --password-command
    /// or NUMERANT_SMTP_PASSWORD
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
    /// Program that receives each message on its standard input, such as 'sendmail -t'
    #[arg(long, value_name = "COMMAND")]
    program: Option<String>,
    /// Maximum number of messages per minute
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..))]
    per_minute: Option<u32>,
    /// Number of retries for a message that the server refuses for now (4xx)
    #[arg(long, value_name = "N", default_value_t = 3)]
    retries: u32,
}

/// How a delivery is done, and whether at all.
#[derive(Debug, Args)]
#[command(next_help_heading = "Running")]
struct DeliveryDoing {
    /// Show the messages without sending them
    #[arg(long, conflicts_with = "ask")]
    plan: bool,
    /// Show the messages and ask before sending them
    #[arg(long)]
    ask: bool,
    /// Send all messages to this address; their text names the real recipients
    #[arg(long, value_name = "ADDRESS")]
    test_to: Option<String>,
    /// Messages of an earlier delivery that may have arrived: name lists them and sends nothing,
    /// send sends them again, skip counts them as sent
    #[arg(long, value_name = "POLICY", value_parser = choice(DOUBTS), default_value = "name")]
    in_doubt: DoubtPolicy,
    /// Journal of deliveries [default: the ledger's name with .deliveries.jsonl]
    #[arg(long, value_name = "FILE")]
    journal: Option<PathBuf>,
    /// Show the journal without sending anything
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
