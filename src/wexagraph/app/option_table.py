"""The table of the options that make something (export, attachments, register, file, backup), in the order of help."""

from __future__ import annotations

from dataclasses import replace

from wexagraph.app.locales import OFFICE
from wexagraph.app.option_values import checked_ways, margins, paper, percent
from wexagraph.app.rows import (
    BUILT_IN,
    FILES,
    INDEX_PAGE,
    JOBS,
    LANGUAGE,
    OFFICE_NAME,
    OFFICE_PICTURE,
    PAGE,
    RECORD,
    RECORDS,
    VOLUME_SIZE,
    ZONE,
    Checked,
    Flag,
    Number,
    OneOf,
    Option,
    Words,
)
from wexagraph.app.secrets import PROMPT
from wexagraph.exports.attachments.documents import BINDINGS as ATTACHMENT_BINDINGS
from wexagraph.exports.attachments.documents import ORDERS
from wexagraph.exports.attachments.options import ATTACHMENT_PATTERN
from wexagraph.exports.options import BINDINGS, BOUND_PATTERN, FORMATS
from wexagraph.naming.patterns import DEFAULT_PATTERN
from wexagraph.pages.options import ALLOWED, ENGINES, FOOTER

ATTACHMENT_FORMS = ("native", "pdf")

AS = Option(
    "as",
    "pdf, eml, html, text: a file a message. mbox, zip: a file a folder. attachments: what is attached, "
    "in a folder of the message's name. Several with commas.",
    "pdf",
    Words(tuple(FORMATS), "format"),
    "FORMATS",
    FILES,
    safe=True,
    shown=True,
)
NAME = Option(
    "name",
    f"Name pattern; `/` in it makes folders. Of a bound PDF, where none is given: {BOUND_PATTERN}",
    None,
    None,
    "PATTERN",
    FILES,
    shown=DEFAULT_PATTERN,
    safe=True,
)
FLAT = Option("flat", "Do not repeat the source's folders below DIR.", False, Flag(), section=FILES, safe=True)
CARRIED = Option(
    "carried",
    "Messages that others bring along as files: as themselves, and what is a mere wrapper not besides.",
    False,
    Flag(),
    section=FILES,
    safe=True,
)
BIND = Option(
    "bind", "One PDF for each of these, with contents and bookmarks.", None, OneOf(BINDINGS), section=FILES, safe=True
)
ORDER = Option(
    "order",
    "With --bind: how they follow one another: name, date, type; the first counts first. Else as they came.",
    None,
    Words(ORDERS, "order"),
    "WORDS",
    FILES,
    safe=True,
)
TITLE = Option(
    "title", "What each PDF is called, on its pages and in its name.", None, None, "PATTERN", FILES, safe=True
)
UNQUOTE = Option(
    "unquote",
    "With --bind: leave out quoted text that stands earlier in the same PDF, and say so.",
    False,
    Flag(),
    section=FILES,
    safe=True,
)
RUN_ON = Option(
    "run-on",
    "With --bind: no new page for each message that fits on what is left of one.",
    False,
    Flag(),
    section=FILES,
    safe=True,
)
NUMBERED = Option(
    "numbered",
    "Running numbers on all pages of PDFs, and as names: HARB- gives HARB-000001. By --sort, else by date.",
    "",
    None,
    "PREFIX",
    FILES,
    safe=True,
)
TAG = Option(
    "tag",
    "Keyword for PDFs, files (user.xdg.tags) and register; a pattern such as '{date:%Y}' too. Repeatable.",
    (),
    None,
    "WORD",
    FILES,
    many=True,
    safe=True,
)
REGISTER_FORMS = Option(
    "register",
    "The table beside the files: csv, xlsx, both with a comma, or none. What colleagues do in it stays.",
    "csv",
    None,
    "FORMS",
    FILES,
    safe=True,
    shown=True,
)
COLUMNS = Option(
    "columns",
    "What it has of each message, in this order: date,from,subject,files.",
    None,
    None,
    "NAMES",
    FILES,
    safe=True,
)
COLUMN = Option(
    "column",
    "A column of your own: 'Due date', or filled by a pattern: 'Year={date:%Y}'. Repeatable.",
    (),
    None,
    "HEADING",
    FILES,
    many=True,
    safe=True,
)
ATTACHMENTS = Option(
    "attachments",
    "embed: inside the PDF. pages: made into pages behind the message. beside: in a folder of its name. "
    "zip: in a ZIP of its name. none: only listed. Several with commas; pages:*.pdf,image/* for some "
    "alone.",
    "embed",
    Checked("ways", checked_ways),
    "WAYS",
    FILES,
    many=True,
    safe=True,
    shown=True,
)
OPEN_ZIPS = Option(
    "open-zips", "With pages: make pages of what is in ZIPs too.", False, Flag(), section=FILES, safe=True
)
OCR = Option(
    "ocr",
    "Recognise the words of scans among the attachments, so that they can be searched: eng, or eng,deu. "
    "The language of labels, where none is named.",
    None,
    None,
    "[LANGUAGES]",
    FILES,
    bare=OFFICE,
    safe=True,
)
FILE_LARGER = Option("file-larger", "Only attachments larger than: 20KB, 5MB.", None, None, "SIZE", FILES, safe=True)
FILE_SMALLER = Option("file-smaller", "Only attachments smaller than.", None, None, "SIZE", FILES, safe=True)
INLINE = Option("inline", "Also pictures of the layout, such as logos.", False, Flag(), section=FILES, safe=True)
NESTED = Option("nested", "Also attachments of messages inside messages.", False, Flag(), section=FILES, safe=True)
ONCE = Option("once", "Write identical files once.", False, Flag(), section=FILES, safe=True)
LOCK = Option(
    "lock",
    "A new backup: locked with a passphrase, asked for or in WEXAGRAPH_PASSPHRASE.",
    False,
    Flag(),
    section=FILES,
)
PAPER = Option(
    "paper",
    "a3, a4, a5, letter, legal, or width x height in mm: 100x150.",
    None,
    Checked("paper", paper),
    "PAPER",
    PAGE,
    shown="a4, or letter where the system's territory uses it",
    safe=True,
)
LANDSCAPE = Option("landscape", "Turn the paper.", False, Flag(), section=PAGE, safe=True)
MARGIN = Option(
    "margin",
    "Of all sides, or top,right,bottom,left: 20,25,20,25.",
    18,
    Checked("margins", margins),
    "MM",
    PAGE,
    safe=True,
    shown=True,
)
SCALE = Option(
    "scale",
    "Everything on the page larger or smaller.",
    "100%",
    Checked("percent", percent),
    "PERCENT",
    PAGE,
    safe=True,
    shown=True,
)
BACKGROUND = Option(
    "background",
    "Colours and pictures behind the text.",
    True,
    Flag("no-background"),
    section=PAGE,
    safe=True,
    shown=True,
)
HEADER = Option(
    "header",
    "Running line above: LEFT | CENTRE | RIGHT, e.g. '{sender} | {date:%d.%m.%Y}'.",
    "",
    None,
    "PATTERN",
    PAGE,
    shown="none",
    safe=True,
)
FOOTER_LINE = Option(
    "footer",
    "Running line below; has {page}, {pages} and {file} besides the fields of a name. '' for none.",
    FOOTER,
    None,
    "PATTERN",
    PAGE,
    safe=True,
    shown=True,
)
TEXT_FONT = Option(
    "text-font", "The font of plain text mail.", "", None, "FONT", PAGE, shown="a monospaced one", safe=True
)
TEXT_SIZE = Option("text-size", "", 9.4, Number(4, 40, False), "POINTS", PAGE, shown=True, safe=True)
SHOW_HIDDEN = Option(
    "show-hidden", "Print text that the sender hid, such as preview lines.", False, Flag(), section=PAGE, safe=True
)
REMOTE_IMAGES = Option(
    "remote-images",
    "Fetch the pictures that messages link to, over HTTPS. Their senders may learn of it.",
    False,
    Flag(),
    section=PAGE,
)
REMOTE_HOST = Option(
    "remote-host",
    "With --remote-images: a host of your own, which may lie at a private address. Repeatable.",
    (),
    None,
    "HOST",
    PAGE,
    many=True,
)
ENGINE = Option(
    "engine",
    "The page engine; `auto` tries a second one on what the first can't set.",
    "auto",
    OneOf(ENGINES),
    section=PAGE,
    safe=True,
    shown=True,
)
PATIENCE = Option(
    "patience",
    "How long one page may take before it is made from the text alone.",
    30.0,
    Number(1, 3600, False),
    "SECONDS",
    PAGE,
    safe=True,
    shown=True,
)
READ_BACK = Option(
    "read-back",
    "Read each PDF again and compare its words with the message's.",
    True,
    Flag("no-read-back"),
    section=PAGE,
    safe=True,
    shown=True,
)
COVER = Option(
    "cover",
    "A cover sheet in front: the built-in one, or a Jinja2 template of HTML.",
    None,
    None,
    "[TEMPLATE]",
    RECORD,
    bare=BUILT_IN,
    safe=True,
)
EVIDENCE = Option(
    "evidence",
    "A block with Message-ID, SHA-256, source, folder, ID, arrival and servers.",
    False,
    Flag(),
    section=RECORD,
    safe=True,
)
HEADERS = Option("headers", "All header fields, on a page of their own.", False, Flag(), section=RECORD, safe=True)
PROPERTY = Option(
    "property",
    "What the PDF says of itself: title, author, subject, keywords.",
    (),
    None,
    "NAME=PATTERN",
    RECORD,
    many=True,
    safe=True,
)
ARCHIVAL = Option(
    "archival",
    "PDF/A-3a (ISO 19005-3), validated as written, with the original message inside.",
    False,
    Flag(),
    section=RECORD,
    safe=True,
)
PASSWORD = Option(
    "password",
    "Lock PDFs (AES-256); WHERE is file:PATH, env:NAME or command:'PROGRAM'. Asked for without it.",
    None,
    None,
    "[WHERE]",
    RECORD,
    bare=PROMPT,
)
OWNER_PASSWORD = Option(
    "owner-password",
    "A second password, for whoever may do what --allow leaves out.",
    None,
    None,
    "[WHERE]",
    RECORD,
    bare=PROMPT,
)
ALLOW = Option(
    "allow",
    "With --owner-password, what all others may do: print, copy, comment, assemble; or none.",
    None,
    Words((*ALLOWED, "none"), "permission", "none"),
    "WORDS",
    RECORD,
)
SEAL = Option(
    "seal",
    "Seal the list of checksums at the end: a PKCS#12 file with the office's key, a token's (pkcs11:...), or @NAME.",
    None,
    None,
    "KEY",
    RECORD,
)
SEAL_PASSWORD = Option(
    "seal-password",
    "Its password or PIN: file:PATH, env:NAME or command:'PROGRAM'. Asked for without it.",
    None,
    None,
    "WHERE",
    RECORD,
)
STAMP = Option(
    "stamp",
    "Have the list stamped by an authority (RFC 3161): its address. Only a digest goes there.",
    None,
    None,
    "URL",
    RECORD,
)
KEY = Option(
    "key",
    "Open protected mail: a PKCS#12 file, a secret OpenPGP key, @NAME, or gpg. Repeatable. See docs/protected.md.",
    (),
    None,
    "FILE",
    many=True,
)
KEY_PASSWORD = Option(
    "key-password",
    "Its password: file:PATH, env:NAME or command:'PROGRAM'. Asked for without it.",
    None,
    None,
    "WHERE",
)
KNOWN = Option(
    "known",
    "Who is trusted as a signer: certificates, withdrawal lists or OpenPGP keys. Repeatable.",
    (),
    None,
    "FILE",
    many=True,
)
SENDER_KEYS = Option(
    "sender-keys",
    "Look at the marks of sending domains (DKIM), by the keys in this file; a line each, as the DNS has them.",
    None,
    None,
    "FILE",
)
ASK_DNS = Option(
    "ask-dns",
    "Ask this name server for the keys of sending domains, each once; kept in sender-keys.txt.",
    None,
    None,
    "SERVER",
)
OUR_SERVER = Option(
    "our-server",
    "Tell what the office's own mail server wrote of a message when it came (Authentication-Results).",
    None,
    None,
    "NAME",
)
KEYS = (KEY, KEY_PASSWORD, KNOWN, SENDER_KEYS, ASK_DNS, OUR_SERVER)
ASKS_FOR_KEYS = ("key", "known", "sender-keys", "ask-dns", "our-server", "evidence")
"""Options of what reads messages: protected ones are opened and proved."""
SEAL_EACH = Option(
    "seal-each",
    "With --seal: also sign each PDF by itself (PAdES), stamped with --stamp, for those that are handed out alone.",
    False,
    Flag(),
    section=RECORD,
)
CASE = Option("case", "Into this case.", None, None, "REF")
BY_PLAN = Option("by-plan", "Each where the file plan says.", False, Flag())
CLERK = Option(
    "clerk",
    "By plan: only what these have sent; the rest stays unfiled. Repeatable.",
    (),
    None,
    "ADDRESS",
    many=True,
)
AS_ONE = Option(
    "as-one",
    "One PDF of what hangs together, called as the subject says behind the reference; as --bind conversation.",
    False,
    Flag(),
    section=FILES,
)
REOPEN = Option("reopen", "Open a closed case again where something new belongs to it.", False, Flag())
CLUSTER = Option(
    "cluster", "Work on a Dask cluster: the address of its scheduler, tcp://host:8786.", None, None, "ADDRESS"
)


def _unsaid(row: Option, help: str) -> Option:
    """An option that a case may have said already: where it is not said, it is as the case has it, or as on export."""
    return replace(row, help=help, default=None, takes=None, shown=False)


PAGE_OPTIONS = (
    *(ATTACHMENTS, OPEN_ZIPS, OCR, PAPER, LANDSCAPE, MARGIN, SCALE, BACKGROUND, HEADER, FOOTER_LINE, TEXT_FONT),
    *(TEXT_SIZE, ZONE, LANGUAGE, SHOW_HIDDEN, READ_BACK, COVER, EVIDENCE, HEADERS, PROPERTY, ARCHIVAL, PASSWORD),
    *(OWNER_PASSWORD, ALLOW),
)
EXPORT = (
    *(AS, NAME, FLAT, CARRIED, BIND, TITLE, UNQUOTE, RUN_ON, NUMBERED, TAG, REGISTER_FORMS, *PAGE_OPTIONS),
    *(INDEX_PAGE, OFFICE_NAME, OFFICE_PICTURE, REMOTE_IMAGES, REMOTE_HOST, ENGINE, PATIENCE, JOBS, CLUSTER),
    *(*KEYS, SEAL, SEAL_PASSWORD, STAMP, SEAL_EACH),
)
DOCUMENT_PAGES = (PAPER, LANDSCAPE, MARGIN, HEADER, FOOTER_LINE, PROPERTY, ARCHIVAL, LANGUAGE, OCR)
"""Options of pages that PDFs of attachments alone have too."""
ATTACHMENTS_ALONE = (
    replace(
        AS,
        help="native: its own bytes. pdf: a PDF of it, with the properties of its message. Both with a comma.",
        default="native",
        takes=Words(ATTACHMENT_FORMS, "form"),
        metavar="FORMS",
    ),
    replace(NAME, help="Name pattern; `/` in it makes folders.", default=ATTACHMENT_PATTERN, shown=True),
    *(FILE_LARGER, FILE_SMALLER, INLINE, NESTED, replace(OPEN_ZIPS, help="Also the files in ZIPs."), FLAT),
    replace(
        BIND, help="With pdf: one PDF of those of each message, or of each type.", takes=OneOf(ATTACHMENT_BINDINGS)
    ),
    *(ORDER, replace(TAG, help="With pdf: a keyword of each PDF. Repeatable."), *DOCUMENT_PAGES, ONCE, ZONE, JOBS),
    *(REGISTER_FORMS, CLUSTER, *KEYS),
)
REGISTER = (COLUMNS, COLUMN, ZONE, LANGUAGE, *KEYS)
BACKUP = (VOLUME_SIZE, LOCK, OCR, JOBS, CLUSTER, SEAL, SEAL_PASSWORD, STAMP)
FILE = (
    *(CASE, BY_PLAN, CLERK, RECORDS),
    _unsaid(AS, "Which files each message becomes; pdf,eml where nothing says otherwise. As on export."),
    replace(NAME, help="Name pattern; {case} and {case_title} are fields as well.", shown=False),
    *(CARRIED, BIND, AS_ONE, TITLE),
    replace(COVER, help="With a cover sheet: built-in, or a template of yours.", metavar="TEMPLATE", bare=None),
    _unsaid(replace(ATTACHMENTS, metavar="HOW", many=False), "embed, pages, beside, zip or none, as on export."),
    *(OCR, replace(ARCHIVAL, help="PDF/A-3a, checked after writing.", default=None)),
    _unsaid(REGISTER_FORMS, "The table in the case's folder: csv, xlsx, both, or none."),
    *(INDEX_PAGE, replace(TAG, help="A tag besides those of the case. Repeatable."), REOPEN, ZONE, JOBS, *KEYS),
)
"""What `file` offers; in an order or a case, each option of an export goes with it."""
