// Written from the contract (openapi-typescript, contract.mjs); make generate writes it anew.

/** The records of the contract. */
export interface Schemas {
  /** The reason that the journal keeps */ Why: string
  Problem: { type: string; title: string; status: number; detail?: string; /** The field that is wrong */ field?: string; /** The value that is wrong */ value?: string; errors?: Schemas['FileError'][] }
  FileError: { line: number; column: number; message: string }
  Credentials: { name: string; password: string; /** Of whoever has a second factor: a one-time code, or a recovery code */ code?: string }
  Session: {
    /** A second factor has to be set up before anything else, as the role has to have one */ set_up_factor?: boolean
    name: string; role: 'administrator' | 'auditor' | 'keeper' | 'member' | 'guest'; person?: string
    /** Goes into X-CSRF-Token of every request that changes something */ csrf: string
    organisation: string
    /** The time zone of the organisation */ zone?: string
    demo: boolean
    /** The organisation's own sign-in vouches for them: they have no password here */ house?: boolean
  }
  OpenSession: {
    id: string; began: string
    /** When a page of it was used last, to some minutes */ used?: string
    /** From which address */ from?: string
    /** What its browser calls itself, shortened */ agent?: string
    /** It is the one that asks */ this: boolean
  }
  Factor: { on: boolean; /** One's role has to have one */ required: boolean; since?: string; /** How many were not used */ recovery_codes: number }
  FactorBegun: { /** To be typed, in base32 */ secret: string; /** The same as otpauth:// */ uri: string; /** The same to be scanned, as a data: URI */ image: string }
  FactorProof: { password: string; /** A one-time code; to take it away, a recovery code too */ code: string }
  RecoveryCodes: { /** Each good once, and told this once */ codes: string[] }
  Role: 'administrator' | 'auditor' | 'keeper' | 'member'
  Token: { id: string; name: string; account: string; purpose: string; made: string; expires: string; /** When a service used it last, to some minutes; absent for never */ used?: string; /** From which address */ used_from?: string }
  HelpFound: { found: Schemas['HelpPlace'][] }
  HelpPlace: { page: string; page_title: string; anchor: string; title: string; /** Around the first word that was found */ said: string }
  HelpPage: { page: string; title: string; /** Made from Markdown, without raw HTML in it; links to other pages lead to /help/PAGE */ html: string; sections: Schemas['HelpSection'][] }
  HelpSection: { anchor: string; title: string }
  Webhooks: { webhooks: Schemas['Webhook'][]; topics: { topic: Schemas['EventTopic']; says: string }[] }
  EventTopic: 'guest' | 'revision' | 'finding' | 'drift' | 'expectation' | 'request'
  Webhook: {
    id: string; name: string; address: string
    /** Empty for all */ topics: Schemas['EventTopic'][]
    /** Where the bearer token is that it wants, as file:PATH or env:NAME; absent for none */ key?: string
    paused: boolean
    /** Whether it knows everything, is being told, did not take what it was sent, or is told nothing for now */ state: 'told' | 'behind' | 'failing' | 'paused'
    /** The last journal entry that it was told or that was nothing to it */ told: number
    /** Journal entries behind that one */ waits: number
    /** How many events it took */ count: number
    /** When it took the last one */ sent?: string
    /** Why it did not take what it was sent last */ problem?: string
    /** When that is sent again */ next?: string
    /** The partner whose it is: it hears of accounts of our people, and of nothing else */ partner?: string
  }
  NewWebhook: {
    id: string
    /** Whose it is */ name: string
    /** https://host/path; http on the service's own machine alone */ address: string
    /** Absent or empty for all */ topics?: Schemas['EventTopic'][]
    /** Where the bearer token is that it wants, as file:PATH or env:NAME */ key?: string
    /** The partner whose it is: it hears of accounts of our people, as the OpenID profiles have it, and of nothing else */ partner?: string
    why?: Schemas['Why']
  }
  WebhookChange: { name?: string; address?: string; topics?: Schemas['EventTopic'][]; key?: string | null; paused?: boolean; why?: Schemas['Why'] }
  NewToken: { /** Shown once */ token: string; id: string; expires: string }
  Account: { name: string; role: Schemas['Role']; person: string; disabled: boolean }
  TwoPeople: { /** never; where something is opened; or always */ when: 'never' | 'loosening' | 'always' }
  NewAccount: { name: string; role: Schemas['Role']; /** The person of ours who has the account; needed for a member */ person?: string; password: string; why?: Schemas['Why'] }
  AccountChange: {
    role?: Schemas['Role']
    /** The person of ours who has the account; needed for a member */ person?: string | null
    /** A new one ends the sessions and tokens of the account */ password?: string
    /** Nobody signs in with it; its sessions and tokens end */ disabled?: boolean
    why?: Schemas['Why']
  }
  Question: { /** An address, person:ID, link:ID or *@domain */ subject: string; action: string; /** kind:id */ resource: string; /** A moment, a date, or days from today as +3d; absent is now */ at?: string; context?: Schemas['QuestionContext'] }
  QuestionContext: { address?: string; presenter?: string; account?: 'record' | 'home' | 'link'; keep_copy?: boolean }
  Answer: {
    subject: string
    /** The name of the subject where it is known */ name?: string
    kind: string; action: string; action_title?: string; resource: string; resource_name?: string
    /** Whom outside the question is about */ address?: string
    at: string; decision: 'yes' | 'no'; account: string; conditions: string[]; settling?: Schemas['Settling']
    /** Of what is found: what the answer leans on that the system has nothing for, so that it may be otherwise there */ not_looked_at?: string[]
    gates: Schemas['Gate'][]; accounts: Schemas['AccountAnswer'][]; revision: number
  }
  /** The systems do not do this yet, and a change is on its way to them */ Settling: { /** From when it is expected to count; absent where nobody knows */ from?: string }
  AccountAnswer: { account: string; decision: 'yes' | 'no'; conditions: string[]; gates: Schemas['Gate'][] }
  Gate: { gate: string; answer: 'pass' | 'refuse' | 'not_asked'; causes: Schemas['Cause'][] }
  Cause: {
    code: string; refuses: boolean; side: 'ours' | 'theirs'
    /** Who can change it: administrator, owner:ID, sponsor:ID, partner:ID, the party */ who?: string
    text: string
    /** What to do about a refusal */ next?: string
    /** Where that is done, as space:ID, partner:ID, guest:ADDRESS, exception:ID, rule:NAME, person:ID, or partners */ at?: string
    /** Id of the partner it is about */ partner?: string
    rule?: string; value?: string; needed?: string
    /** The layer that decided */ layer?: string
    /** What the value would be if that layer said nothing */ without?: string
    chain?: Schemas['ChainStep'][]; options?: Schemas['Option'][]
  }
  ChainStep: { layer: 'limit' | 'default' | 'partner' | 'people' | 'space' | 'item'; where?: string; /** Absent where the layer says nothing */ value?: string; /** A value held back */ held?: string; decides?: boolean }
  Option: { value: string; can: boolean; /** The layer that stands against it */ by?: string; /** Who can raise it */ who?: string }
  Reach: { subject: string; name?: string; kind: string; at: string; lines: Schemas['ReachLine'][]; revision: number; stated?: Schemas['Stated']; /** The moment at which the first of it ends */ first_lost?: string }
  ReachLine: {
    service: string; action: string
    /** kind:id, or kind:* for count of them that are alike */ resource: string
    name?: string; count: number; decision: 'yes' | 'no'; account: string; conditions: string[]; cause: Schemas['Cause']
    /** Of a yes that a grant or link gives */ since?: string
    until?: string; residual?: boolean
  }
  /** What every result states */ Stated: {
    organisation: string; revision: number
    /** The draft as which it is answered */ draft?: string
    at: string
    /** Answered from the present record, from what was recorded at that moment, or from the first record, because nothing was recorded yet */ recorded: 'now' | 'then' | 'first'
    method: string; not_looked_at: string[]
  }
  AudienceLine: {
    party: string; name?: string; kind: string; partner?: string
    /** A typical newcomer, not somebody known */ newcomer: boolean
    action: string; resource: string; resource_name?: string; account: string; conditions: string[]; cause: Schemas['Cause']
    /** Absent where it always was */ since?: string
    /** Absent where nothing ends it */ until?: string
    /** Residual risk: a link works for whoever holds it, or the partner is barred or suspended */ residual: boolean
  }
  Audience: {
    stated: Schemas['Stated']; resource: string; name?: string; lines: Schemas['AudienceLine'][]
    /** Lines in all */ total: number
    /** Known parties among them, links included */ parties: number
    /** Typical newcomers among them */ newcomers: number
    next: string
  }
  BoardRow: {
    party: string; name?: string; kind: string; partner?: string; newcomer: boolean
    /** By service, (action, resource) pairs that need a role */ granted: { [key: string]: number }
    /** By service, the same of actions that need none */ wide: { [key: string]: number }
    /** When the first of what is granted ends */ until?: string
  }
  BoardTotals: {
    parties: number; newcomers: number
    /** By service, (party, action, resource) */ granted: { [key: string]: number }
    /** By service, known parties that reach anything of it */ reached: { [key: string]: number }
    /** Too many to be summed up for a page: only parties are counted, the report sums up all */ left_out?: boolean
    by_kind: { [key: string]: number }; by_partner: { [key: string]: number }
  }
  Board: { stated: Schemas['Stated']; who: string; rows: Schemas['BoardRow'][]; total: number; totals: Schemas['BoardTotals']; /** Residual risk: what stays open to whoever holds a link */ residual?: string; next: string }
  DiffLine: {
    change: 'gained' | 'lost' | 'otherwise'; action: string; resource: string; name?: string; count: number
    /** What decides on the left; absent where there is no such resource */ was?: Schemas['Cause']
    /** What decides on the right */ becomes?: Schemas['Cause']
    was_conditions?: string[]; becomes_conditions?: string[]
  }
  Diff: { left: Schemas['Stated']; right: Schemas['Stated']; who: string; and_who: string; lines: Schemas['DiffLine'][] }
  FoundThing: { kind: 'rule' | 'guest' | 'partner' | 'person' | 'space' | 'meeting' | 'item'; id: string; name: string; detail?: string }
  Suggestion: { value: string; label: string; detail?: string }
  Action: { name: string; title: string; service: string; resources: string[]; /** context.address is needed */ address: boolean; /** context.presenter counts */ presenter: boolean; /** Our own people ask it */ ours: boolean }
  Rule: {
    name: string; service: string; title: string; shape: 'switch' | 'level' | 'days' | 'methods' | 'choice'
    values: Schemas['RuleValue'][]; limit: string
    /** The default that counts */ default: string
    /** A default held back */ held_default?: string
    start_limit: string; start_default: string; advised: string; advised_reason: string; omits?: string
    /** A question that turns on it */ example?: string
    layers: string[]
    /** Rules that are asked beside it and that an exception may set */ with?: string[]
    below: Schemas['RuleBelow'][]
    /** The default is looser than advised */ exposes: boolean
    /** The organisation has set it itself */ set?: boolean
    etag: string
  }
  RuleValue: { value: string; sentence: string }
  RuleBelow: { layer: string; where: string; name?: string; value: string; held: boolean }
  RuleChange: { limit?: Schemas['RuleText']; default?: Schemas['RuleText']; /** The default is given as held back */ held?: boolean; why?: Schemas['Why'] }
  /** A value as the scale writes it; methods are separated by commas */ RuleText: string
  Choices: { rule: string; title: string; where: string; /** The value that counts now */ value: string; /** The layer that decided it */ layer: string; without?: string; chain: Schemas['ChainStep'][]; choices: Schemas['Choice'][] }
  Choice: {
    value: string; sentence: string; can: boolean; advised?: boolean
    /** The layer that stands against it */ by?: string
    /** Which partner, exception, space or item that is */ where?: string
    /** What that layer says */ says?: string
    /** Who can raise it */ who?: string
  }
  Values: { where: string; name?: string; layer: string; rules: Schemas['ValueRow'][]; etag: string; weighed?: Schemas['ValueWeighed'] }
  PlaceKind: 'person' | 'group' | 'space' | 'item' | 'domain_list' | 'meeting' | 'grant' | 'link' | 'forwarder' | 'contact'
  PlaceEdit: {
    /** close ends what was given in a space or on an item; a grant that has begun ends instead of being removed */ do: 'add' | 'set' | 'close' | 'remove'
    kind: Schemas['PlaceKind']
    /** What it is known by; absent where something new is added: then it follows from its name, or from its fields. A grant is known by party, resource, role and from, or by party and resource where one role is in force */ id?: string
    /** Of a new space: the pattern that says what is not said in the fields */ pattern?: string
    /** A merge patch (RFC 7396) of the fields of the file format; of an item also space, of close the last day as on */ fields?: { [key: string]: unknown }
  }
  FirstAdministrator: { key: string; name: string; password: string }
  Started: {
    /** Absent where nothing is said of it yet */ organisation?: string
    people: number; guests: number; spaces: number; partners: number
    /** Of guests who belong to no partner, the most frequent first */ domains: { domain: string; guests: number }[]
    /** The posture whose defaults all count; absent for none */ posture?: string
    /** Records whose dates wait until an administrator releases them */ dates_wait: number
    /** Messages that wait to be sent */ mail: number
  }
  Posture: {
    name: string; title: string; says: string
    /** The organisation stands there */ now: boolean
    /** The defaults that it would change */ rules: { rule: string; title: string; was: string; value: string; sentence: string; /** The limit allows it */ can: boolean }[]
  }
  AllSettings: { /** Its fields in the file format; absent where nothing is said of it */ organisation?: { [key: string]: unknown }; /** The fields of the file format */ settings: { [key: string]: unknown }; etag: string }
  TermsVersion: {
    /** When it began to count; absent for the first */ from?: string
    who?: string; why?: string
    /** Of the policy that brought it; absent for the first */ revision?: number
    /** Empty for those that come with the product */ text: string
    /** Empty where the Portuguese is not said apart */ text_pt: string
    /** Everybody was asked to accept them anew */ again: boolean
    /** Records whose last acceptance falls into its time */ accepted: number
    /** Of the version in force: active records that still have to accept it */ owed: number
  }
  SettingsPatch: { organisation?: { [key: string]: unknown }; settings?: { [key: string]: unknown }; why?: Schemas['Why'] }
  Pattern: {
    name: string; title: string
    /** What people from outside can do there */ says: string
    kind: string
    /** That who is invited gets where nothing else is said */ role: string
    /** Everyone from outside gets a private folder */ each: boolean
    rules: Schemas['PatternRule'][]; items: { kind: string; name: string }[]
  }
  PatternRule: { rule: string; value: string; sentence: string; /** The limit allows it; else it is left out */ can: boolean }
  PlacesChange: { changes: Schemas['PlaceEdit'][]; why?: Schemas['Why'] }
  PlaceLine: {
    do: string; kind: string; id: string
    result: 'added' | 'changed' | 'closed' | 'ended' | 'removed' | 'unchanged' | 'refused' | 'not_done'
    /** Which field is wrong */ field?: string
    /** Its value */ value?: string
    /** Why it is refused */ cause?: string
    /** What else is to be known of it */ note?: string
    ask?: Schemas['Question']
  }
  PlacesChanged: {
    preview: boolean; lines: Schemas['PlaceLine'][]
    /** Where any line is refused nothing is written */ refused: number
    weighed?: Schemas['ValueWeighed']
    /** The entry of the journal by which it can be undone; absent where nothing was written */ change?: number
  }
  PlaceEntry: {
    id: string
    /** The fields of the file format */ fields: { [key: string]: unknown }
    /** What the people and spaces that it names are called */ names?: { [key: string]: string }
    /** People of ours who are in a group */ people?: string[]
  }
  /** Who would gain and who would lose by a value; with preview alone */ ValueWeighed: {
    /** Nothing changes for anybody */ nothing: boolean
    /** The new value is looser than what counted */ loosens: boolean
    was?: string; becomes?: string; parties: Schemas['Moves']; granted: Schemas['Moves']; wide: Schemas['Moves']
    /** Typical newcomers who would gain */ newcomers: string[]
    /** The first of those who gain or lose */ lines?: string[]
    not_counted: string[]
  }
  ValueRow: {
    rule: string; title: string; service: string; shape: string
    /** What is set here; absent where nothing is */ set?: string
    /** It is held back */ held?: boolean
    /** The value that counts here */ value: string
    /** The layer that decided it */ layer: string
    sentence: string; choices: Schemas['Choice'][]
  }
  ValueChange: { value: Schemas['RuleText']; /** Given as held back */ held?: boolean; why?: Schemas['Why'] }
  WhyOnly: { why?: Schemas['Why'] }
  Prolong: { /** A date, a moment, +30d, or none */ until: string; why?: Schemas['Why'] }
  /** What is expected of whoever an expectation is about */ Expect: {
    /** never and always: nobody may, everybody may. The others say more in the field of their name */ sort: 'never' | 'always' | 'only' | 'only_until' | 'at_most' | 'condition'
    /** With only: these and nobody else, as everybody, an address, partner:ID, domain:NAME, kind:KIND or group:ID */ only?: string[]
    /** With only_until: the last day on which anybody may */ only_until?: string
    /** With at_most: so many parties; a yes for anybody whom nobody knows yet breaks it */ at_most?: number
    /** With condition: every yes carries all of these */ condition?: string[]
  }
  Expectations: { expectations: Schemas['Expectation'][]; /** Of policy */ revision: number; /** The moment from which it was judged */ at: string }
  Expectation: {
    id: string
    /** everybody, an address, partner:ID, domain:NAME, kind:KIND or group:ID */ party: string
    /** An action, SERVICE.* or * */ action: string
    /** kind:id, of which a space is meant with all in it; or * */ resource: string
    expect: Schemas['Expect']
    /** It is to hold for what could come to be without an administrator, too */ could: boolean
    /** Its owner hears whenever the answer, the audience or the number changes */ tell: boolean
    /** A person of ours; absent are the administrators */ owner?: string
    /** Why it is expected */ reason?: string
    /** It in a sentence */ says: string
    state: 'held' | 'broken' | 'unknown'
    /** Why it is neither held nor broken */ unknown?: string
    /** It holds now; what is told could come to be without an administrator or keeper */ only_could?: boolean
    /** There is nothing that it is about */ empty?: boolean
    /** Where it is broken: the first moment judged at which it is; later than now where a day to come breaks it */ from?: string
    /** How many break it: a party and a thing for each action; of at_most the parties */ count?: number
    /** So many parties are among them */ parties?: number
    /** So many known parties may now what it is about */ may?: number
    /** So often the answer is yes now: a party and a thing for each action */ answers?: number
    /** When */ judged?: string
    /** Since when it is as it is */ since?: string
    broken_by?: Schemas['BrokenBy']
    /** The first hundred who break it */ examples: Schemas['Counterexample'][]
    /** What became of it, the newest first; of one expectation alone */ history?: Schemas['ExpectationPast'][]
    etag: string
  }
  /** What broke an expectation */ BrokenBy: { /** The journal entry */ change?: number; /** Where policy was published by it */ revision?: number; by?: string; why?: string; text: string }
  Counterexample: {
    /** As a question names them */ who: string
    name: string
    /** Typical of whoever nobody knows yet */ newcomer: boolean
    /** Who of ours does it */ person?: string
    action: string
    /** kind:id; * where it is so for as many that are alike as count says */ resource: string
    count: number; conditions: string[]
  }
  ExpectationPast: { at: string; /** The journal entry */ change?: number; state: 'held' | 'broken' | 'unknown'; count?: number; text: string }
  /** The fields of an expectation that are to be otherwise, and why; null takes one away, and what is not named stays (RFC 7396) */ ExpectationPatch: { [key: string]: unknown }
  ExpectationChange: { /** Absent makes one of what is expected */ id?: string; party: string; action: string; resource: string; expect: Schemas['Expect']; could?: boolean; tell?: boolean; owner?: string; reason?: string; why?: Schemas['Why'] }
  Evidence: {
    id: string
    /** What it is about */ says: string
    party: string; action: string; resource: string
    /** The moment that it is about */ at: string
    made: string; by: string; why: string; revision: number
    /** The journal entry that took it in */ change: number
    /** SHA-256 of the signed manifest */ digest: string
    /** Known parties and links that reach anything */ parties: number
    /** Typical newcomers that do */ newcomers: number
    lines: number; totals: Schemas['EvidenceTotal'][]; systems: Schemas['EvidenceSystem'][]; not_looked_at: string[]
    expectations: Schemas['EvidenceStands'][]
    /** What trials at each system showed in the month before */ trials: Schemas['EvidenceBeside'][]
    /** Rounds of review that were open or ended in the year before */ reviews: Schemas['EvidenceBeside'][]
    /** Who must sign it off */ sign_off: string[]
    signed_off: Schemas['SignedOff'][]
    /** Who must sign it off and has not */ open: string[]
  }
  EvidenceSystem: { id: string; /** When it was read last; absent where it never was */ read?: string }
  EvidenceBeside: { /** A system or the name of a round */ about: string; says: string }
  EvidenceStands: { id: string; says: string; state: 'held' | 'broken' | 'unknown'; count: number }
  EvidenceTotal: { action: string; parties: number; pairs: number }
  SignedOff: { by: string; at: string; note?: string }
  Verified: { ok: boolean; checks: Schemas['VerifiedPart'][] }
  VerifiedPart: { what: string; ok: boolean; says: string }
  EvidenceDiffers: { change: 'gained' | 'lost' | 'otherwise'; party: string; action: string; resource: string; was?: string; becomes?: string }
  History: { subject: string; action: string; resource: string; spells: Schemas['Spell'][] }
  Spell: {
    decision: 'yes' | 'no'; from: string
    /** Absent while it lasts */ until?: string
    /** It was so when the time that was asked about began */ first: boolean
    /** The journal entry that it came by; absent where a date came */ change?: number
    by?: string; why?: string
    /** Through what it came, in words */ text: string
  }
  ReachedBetween: { from: string; to: string; lines: Schemas['ReachedLine'][] }
  ReachedLine: {
    party: string; name: string; kind: string; newcomer: boolean; action: string; resource: string; first: string
    /** When it ended; the end of the time where it lasted */ last: string
    /** So many unbroken times */ spells: number
    longest_from: string; longest_until: string
  }
  Exception: {
    id: string; people: string[]; groups: string[]
    /** Absent is towards everybody */ parties?: string[]
    rules: { [key: string]: Schemas['SetValue'] }; from?: string; until?: string; reason?: string; state: 'ahead' | 'in_force' | 'over'
    /** It changes nothing */ without_effect?: boolean
    /** How many people of ours */ concerns: number
    etag: string
  }
  /** The fields of an exception that are to be otherwise, and why; null takes one away, and what is not named stays (RFC 7396) */ ExceptionPatch: { [key: string]: unknown }
  ExceptionChange: { id: string; people?: string[]; groups?: string[]; parties?: string[]; rules: { [key: string]: Schemas['SetValue'] }; from?: string; until?: string; reason?: string; why?: Schemas['Why'] }
  Imported: { lines: Schemas['ImportLine'][]; written: boolean; preview: boolean }
  ImportLine: { line: number; id: string; result: 'made' | 'changed' | 'unchanged' | 'refused'; cause?: string }
  SpaceBrief: {
    id: string; name: string; kind: string; owners: string[]
    /** What the owners are called, in their order */ owner_names: string[]
    items: number
    /** How many rules it sets */ set: number
    /** How many parties have a role in it now */ outside: number
  }
  SpaceView: {
    id: string; name: string; kind: string; owners: Schemas['NamedRef'][]; members: Schemas['NamedRef'][]
    /** Only these from outside; absent is whoever the rules admit */ parties?: string[]
    joinable: boolean
    /** What who joins a course from outside gets */ joins_as?: 'view' | 'contribute' | 'manage'
    house_licence: boolean; items: Schemas['ItemView'][]; meetings: Schemas['NamedRef'][]; given: Schemas['GivenRole'][]
    values: Schemas['Values']; findings: Schemas['Finding'][]
    /** As of when findings are, where something changed since and is being looked at; else absent */ findings_at?: string
    /** The caller may set values here */ editable: boolean
  }
  NamedRef: { id: string; name: string }
  ItemView: { id: string; kind: string; name: string; private: boolean; rules: { [key: string]: Schemas['SetValue'] } }
  GivenRole: {
    party: string; name?: string; resource: string; role: string; from?: string; until?: string
    /** The named link it comes from */ link?: string
    state: 'ahead' | 'live' | 'over'
    /** Whether it gets them in now; none for a group */ decision: 'yes' | 'no' | 'none'
    /** Why */ text?: string
  }
  PeopleMatrix: { rules: { rule: string; title: string; default: string }[]; people: Schemas['MatrixRow'][]; next: string }
  MatrixRow: {
    id: string; name: string
    /** In the order of the rules */ values: { /** That counts towards everybody */ value: string; /** The layer that decided it */ layer: string; /** An exception of theirs or of a group of theirs decided it */ own: boolean }[]
  }
  PersonBrief: { id: string; name: string; address?: string; groups: string[]; roles: string[]; /** How many are in force */ exceptions: number }
  PersonView: {
    id: string; name: string; address?: string
    /** When they left us, or will */ left?: string
    /** What they read their mail in */ language?: string
    groups: string[]; roles: string[]; owns: Schemas['NamedRef'][]
    /** Meetings */ hosts: Schemas['NamedRef'][]
    exceptions: Schemas['Exception'][]
    /** Rules that exceptions may set and what counts towards everybody */ rules: Schemas['ValueRow'][]
    contacts: Schemas['ContactView'][]; forwarders: Schemas['Forwarder'][]; reached: Schemas['ReachedBy'][]
    findings: Schemas['Finding'][]
    /** As of when findings are, where something changed since and is being looked at; else absent */ findings_at?: string
  }
  ContactView: { party: string; state: 'asked' | 'accepted' }
  ReachedBy: { action: string; title: string; resource: string; /** Typical newcomers who can: partners, an unlisted address, a private one */ yes: string[]; /** How many of them cannot */ no: number }
  Link: {
    id: string; item: string; item_name?: string; bearer: boolean; for?: string[]
    /** The right that it was given */ right: string
    /** The right that counts; none where it opens nothing */ effective_right?: string
    /** When it ends as the rules have it; absent for never */ effective_until?: string
    created: string
    /** The end that it was given */ until?: string
    download: boolean; password: boolean; by?: string; works: boolean
    /** Why it works or not, and until when */ text: string
    /** How often it was opened, where a system tells */ opened?: number
    /** When the system told that */ opened_read?: string
  }
  LinkAsk: {
    /** Absent: drawn */ id?: string
    /** A file or a folder, as file:press-kit */ item: string
    /** For whoever holds it */ bearer?: boolean
    /** Addresses it names, one a line or between commas */ for?: string
    right?: 'view' | 'contribute' | 'manage'; until?: string; download: boolean
    /** A password is asked */ password?: boolean
    /** The person of ours whose link it is */ by?: string
    why?: string
  }
  MadeLink: {
    /** With preview, whether it would be */ made: boolean
    link: Schemas['Link']
    /** Everything that stands in the way of a link for whoever holds it */ refused: Schemas['CheckCause'][]
    /** What became of each address */ lines: Schemas['InvitedLine'][]
    opens: Schemas['InvitationOpens'][]
    /** What stays open for everybody whatever their gates say */ residual?: string
  }
  Forwarder: { person: string; name?: string; to: string; keep_copy: boolean; set_by: string; allowed: boolean; text: string }
  Findings: { /** When everything was looked at; with soon */ at?: string; /** Something changed since, and is being looked at; with soon */ behind?: boolean; findings: Schemas['Finding'][]; kinds: Schemas['FindingKind'][]; next: string }
  FindingKind: { kind: string; title: string; do: string; hint: boolean; open: number; accepted: number }
  Finding: {
    id: string; kind: string; title: string; about: string[]; cause: string; do: string; hint: boolean
    numbers: { [key: string]: number }
    /** Since when it is there; absent where nobody looked before */ since?: string
    /** Of one that is gone: when it went */ gone?: string
    accepted?: Schemas['AcceptedBy']
  }
  AcceptedBy: { by: string; reason: string; since: string; until: string }
  Acceptance: { id: string; reason: string; until: string }
  Supposition: {
    /** The address that would be given something; absent with a link */ subject?: string
    /** It would become a guest who has accepted */ invite?: boolean
    grants?: Schemas['SupposedGrant'][]; groups?: string[]; bundle?: string; link?: Schemas['SupposedLink']; at?: string
  }
  SupposedGrant: { resource: string; role: 'view' | 'contribute' | 'manage' }
  SupposedLink: { item: string; right?: 'view' | 'contribute'; password?: boolean; download?: boolean }
  Would: { subject: string; kind: string; at: string; lines: Schemas['WouldLine'][]; revision: number }
  WouldLine: { service: string; action: string; resource: string; name?: string; count: number; /** To whom it was tried to be passed on */ to?: string; change: 'opened' | 'otherwise' | 'open' | 'closed'; conditions: string[]; /** Why */ text: string }
  CheckLine: {
    line: number
    /** As it stands in the list */ text: string
    /** In normal form */ address?: string
    kind?: string; partner?: string; verdict: 'yes' | 'no' | 'already' | 'duplicate' | 'own' | 'malformed'
    /** Of a verdict that is neither yes nor no */ reason?: string
    causes: Schemas['CheckCause'][]; conditions: string[]
    /** What to do first */ next?: string
  }
  CheckCause: { gate: string; code: string; side: string; who?: string; text: string; next?: string }
  CheckSummary: { total: number; verdicts: { [key: string]: number }; /** How many addresses a cause stands in the way of */ causes: { [key: string]: number }; into: string; as: string }
  /** A line of the answer, either an address or the summary */ CheckFound: { address?: Schemas['CheckLine']; summary?: Schemas['CheckSummary'] }
  BothHalves: {
    partner: string; name: string; key: string; ours: 'yes' | 'no' | 'unset'
    /** As it counts now */ theirs: 'admits' | 'refuses' | 'unknown'
    /** Whether our side is open by policy: standing, opening and the level of the rules of domains */ opens: boolean
    /** Why our side is open or is not */ because: 'by_name' | 'by_level' | 'not_listed' | 'by_standing'
    /** The loosest level of the rules of domains that ask about it */ level: 'closed' | 'listed' | 'any'
    /** The part that they admit; absent is all of it */ features?: string[]
    /** The part that our rules allow; absent where there are no parts */ our_features?: string[]
    /** The part that both sides allow; absent where there are no parts or nothing is open */ both?: string[]
    source?: string
    /** Who said so */ said_by?: string
    as_of?: string
    /** The end of what was admitted until then */ until?: string
    /** They admitted it longer ago than the setting lets count */ old: boolean
    joint: 'shut' | 'open' | 'unconfirmed' | 'their_turn' | 'our_turn'
  }
  TheirPerson: {
    address: string; name?: string; kind: string
    /** Of the record; absent where there is none */ state?: string
    /** Roles that are in force */ roles: number
    spaces: number
    /** The end of the last role; absent where one has none or there is none */ until?: string
    barred?: boolean
  }
  Advice: { partner: string; short: string; at: string; /** Records, provisioned, suspended, home, sharing, talking, contacts, ours, owners, grants, spaces, reports, items, came, went */ figures: { [key: string]: number }; ways: Schemas['Way'][] }
  Way: {
    name: 'guests' | 'federation' | 'membership' | 'feed'; title: string
    /** What speaks for it less what speaks against it */ weight: number
    fits: boolean; in_use: boolean; for: string[]; against: string[]; gives: string; costs: string; needs: string
  }
  NewLetter: {
    partner?: string
    /** Services and directions, as spaces.in; absent is all that waits for them */ about?: string[]
    /** Instead of partner and about, a question that their side refuses or has not confirmed */ question?: Schemas['Question']
    /** Whom it is sent to; absent is who is known */ to?: string
    note?: string; form?: 'markdown' | 'html' | 'text'
    /** Mail it to the addresses it is sent to, with a copy to the partner's owner */ mail?: boolean
    /** Although a letter on the same matter is open */ again?: boolean
    why?: Schemas['Why']
  }
  Letter: {
    /** Empty in a preview */ id: string
    partner: string
    /** Name of the partner */ name: string
    about: string[]; sent?: string; by?: string; to?: string; note?: string; state: 'open' | 'admitted' | 'refused' | 'withdrawn'
    /** Whole days from its sending until its answer or now */ age: number
    answered?: string
    /** Their answer, or how it became known */ said?: string
    text?: string
    /** Where it is mailed to, the owner's copy included */ mailed?: string[]
    message_id?: string
    /** Why it is not mailed */ not_mailed?: string
    /** Letters on the same matter that are open */ same?: string[]
  }
  OurStatement: {
    /** Whether this service publishes it */ published: boolean
    /** Where partners fetch it; absent while it is not known under which address the service is reached */ address?: string
    for: string; issuer: string; expires: string
    /** admits, refuses, or admits with the features, by service and direction as they are with us */ stance: { [key: string]: string }
    keys: Schemas['StatementKey'][]
  }
  StatementKey: { /** Thumbprint (RFC 7638) */ key: string; state: 'announced' | 'current' | 'retired'; since: string }
  TheirStatement: {
    partner: string; address?: string
    /** Thumbprints of the keys that may sign: pinned, and announced by what they signed */ keys: string[]
    /** Of the newest that was taken */ issued?: string
    until?: string; fetched?: string
    /** Why the last one was not taken */ problem?: string
    reason?: string
    /** The key that signed it and is not trusted */ offered?: string
  }
  StanceChange: {
    says: 'admits' | 'refuses' | 'unknown'; features?: string[]; source?: 'recorded' | 'statement' | 'trial' | 'attempt'
    /** When they said so; absent is now */ as_of?: string
    /** An end after which it does not count any more; a date still counts */ until?: string
    /** Who of theirs said so */ said_by?: string
    why?: Schemas['Why']
  }
  Partner: {
    id: string; name: string; domains: Schemas['DomainEntry'][]; standing: 'active' | 'suspended' | 'ended'; standing_since?: string
    standing_reason?: string; also_named?: string[]
    /** Who administers their side */ contacts?: string[]
    owner?: string
    /** The day on which somebody should look at it again */ review?: string
    note?: string
    /** Where their signed statement is published */ statement?: string
    /** The issuer of their own sign-in (OpenID Connect) */ sign_in?: string
    /** As whom we are known there */ sign_in_client?: string
    /** Addresses count that their sign-in does not call verified */ sign_in_unverified?: boolean
    opened: { [key: string]: boolean }; rules: { [key: string]: Schemas['SetValue'] }; stance: Schemas['Stance'][]
    /** With a preview of a stance, what it would do */ weighed?: Schemas['ValueWeighed']
    counts: Schemas['PartnerCounts']
    /** After a change and in its preview: whom and what it concerns */ concerns?: Schemas['PartnerCounts']
    etag: string
  }
  Rearranged: {
    partner: Schemas['Partner']; preview: boolean; concerns: Schemas['PartnerCounts']
    /** Spaces, exceptions, bundles, expectations and letters that named the partner, as space:ID */ named: string[]
    /** What those who move find otherwise */ differs: Schemas['Difference'][]
  }
  Difference: { /** As opened chat.in, rule spaces.pages, stance chat.in or standing */ what: string; was: string; becomes: string }
  PartnerCounts: { guests: number; grants: number; spaces: number }
  SetValue: { value: string; held?: boolean }
  DomainEntry: { name: string; subdomains?: boolean; look_alike?: boolean }
  Stance: { key: string; says: string; features?: string[]; source?: string; said_by?: string; as_of?: string; until?: string }
  /** The fields of Partner that are to be otherwise, and why; null takes one away, and what is not named stays (RFC 7396) */ PartnerPatch: { [key: string]: unknown }
  Bar: { /** A domain; or address */ name?: string; subdomains?: boolean; address?: string; reason?: string }
  DomainsImported: { lines: Schemas['DomainLine'][]; /** Lines by result */ counts: { [key: string]: number }; /** Those whose address is taken otherwise */ concerns: Schemas['PartnerCounts']; written: boolean; preview: boolean }
  DomainLine: { /** 0 for what is removed */ line: number; text: string; name: string; subdomains?: boolean; partner?: string; result: 'new' | 'changed' | 'same' | 'removed' | 'refused'; cause?: string }
  DomainTest: {
    address: string; domain: string; unicode: string; verdict: 'own' | 'barred' | 'partner' | 'personal' | 'unlisted'
    /** The entry that decides */ entry?: string
    partner?: string
    /** A domain of ours or of a partner that this one looks like */ look_alike?: string
    text: string
  }
  AuthzenEntity: { /** Of a subject party, person or link; of a resource its kind, as space */ type: string; /** Of a party an address, or *@domain for a typical newcomer */ id?: string; /** Is not looked at */ properties?: { [key: string]: unknown } }
  AuthzenAction: { /** As files.open */ name: string; /** Is not looked at */ properties?: { [key: string]: unknown } }
  /** What else is there is the gateway's own */ AuthzenContext: {
    /** A moment; the past as it was recorded */ at?: string
    /** Whom it is about, of actions that need one */ address?: string
    /** Who presents, as an id of a person */ presenter?: string
    /** With which account alone */ account?: 'record' | 'home' | 'link'
    /** A forward leaves a copy */ keep_copy?: boolean
    /** Conditions that whoever asks sees to. A yes that asks for another is decided as a no */ enforces?: Schemas['AuthzenCondition'][]
  } & { [key: string]: unknown }
  AuthzenCondition: 'sign_in' | 'one_time_code' | 'accept_terms' | 'passcode' | 'password' | 'held_until_admitted' | 'counterpart_unconfirmed' | 'presenter_asked' | 'no_browsing' | 'becomes_guest' | 'settling'
  AuthzenRequest: { subject?: Schemas['AuthzenEntity']; action?: Schemas['AuthzenAction']; resource?: Schemas['AuthzenEntity']; context?: Schemas['AuthzenContext'] }
  /** Its own subject, action, resource and context stand in for what members leave out */ AuthzenBatch: Schemas['AuthzenRequest'] & { evaluations?: Schemas['AuthzenRequest'][]; options?: { evaluations_semantic?: 'execute_all' | 'deny_on_first_deny' | 'permit_on_first_permit' } }
  AuthzenDecision: { decision: boolean; context?: Schemas['AuthzenTold'] }
  AuthzenTold: {
    /** What a yes asks for */ conditions?: Schemas['AuthzenCondition'][]
    /** Those that the request does not say it enforces, so that the decision is no */ unenforced?: Schemas['AuthzenCondition'][]
    /** With which account it was decided */ account?: string
    gates?: { gate: string; answer: string; causes?: { code: string; side: string; who?: string; text: string }[] }[]
    /** Why it is a no that no gate was asked for: there is no such subject or resource */ reason?: string
    revision?: number
    /** The moment that was asked for */ at?: string
    /** Up to when it is known what changed */ known_at?: string
    /** How long the answer may be kept */ keep_seconds?: number
    /** Of a member of a batch that makes no sense */ error?: { status: number; message: string }
  }
  /** In the order of the members; one decision where the request has no members */ AuthzenDecisions: { evaluations?: Schemas['AuthzenDecision'][]; decision?: boolean; context?: Schemas['AuthzenTold'] }
  /** A request without what is searched for; an id of it is left out of account */ AuthzenSearch: Schemas['AuthzenRequest'] & { page?: { token?: string; limit?: number } }
  AuthzenResults: {
    /** What an evaluation would permit: subjects and resources with type and id, actions with their name */ results: { type?: string; id?: string; name?: string }[]
    page: { /** Empty on the last page */ next_token: string; count: number; total: number }
  }
  Differing: { /** The policy in force that it was compared with */ revision: number; /** From what is in force to what the file says */ edits: Schemas['DraftEdit'][] }
  Loaded: {
    changed: number; revision: number; preview: boolean; kinds: { [key: string]: number }
    /** The dates of the records that came wait */ waits?: boolean
    going?: Schemas['DatesGoing']
    /** What changes: all of policy, and the first 200 entries of inventory */ edits: Schemas['DraftEdit'][]
    /** What an earlier version took and this one does not */ odd?: string[]
    /** Stored values that a lowered limit holds back, or a raised one counts again; the first 200 */ held?: Schemas['HeldChange'][]
    held_total?: number
  }
  ImpactOutward: { action: string; /** A typical newcomer for the target */ who: string; name: string; partner?: string; people: number; /** One of them */ person?: string; change: 'gained' | 'lost' | 'otherwise' }
  ImpactForwarder: { mailbox: string; to: string; starts: boolean }
  ImpactPresenters: { action: string; change: 'gained' | 'lost'; parties: number; presenters: number; pairs: number; person?: string; newcomers: string[] }
  DatesGoing: {
    records: number
    /** Steps that would happen at once, by kind */ at_once: { [key: string]: number }
    /** The same by partner; none where there is none */ partners: { [key: string]: number }
    /** What would follow */ days: Schemas['DatesDay'][]
    /** Messages that would go out in the first days */ mail: number
  }
  DatesFloor: { /** organisation, partner:ID or step:CAUSE */ for: string; /** A moment, or never while they wait */ from: string; mail?: string }
  DatesDay: { day: string; kinds: { [key: string]: number } }
  DatesHeld: { records: number; mail: number }
  Dates: { waiting: Schemas['DatesGoing']; mail_waits: boolean; floors: Schemas['DatesFloor'][]; held: Schemas['DatesHeld'] }
  DatesRelease: {
    /** organisation, partner:ID, step:CAUSE, or a guest's address; absent is everything */ for?: string
    /** A moment or a day; absent is after the days that guests are told ahead */ from?: string
    /** What is due is carried out */ steps?: boolean
    /** Mail about it is sent */ mail?: boolean
    /** Although it is sooner, or more at once, than the brake lets */ confirm?: boolean
    why?: Schemas['Why']
  }
  DatesReleased: { for: string; from: string; steps: boolean; mail: boolean; going?: Schemas['DatesGoing']; /** Why it has to be confirmed */ brake?: string }
  Moves: { /** From no to yes */ gained: number; /** From yes to no */ lost: number; /** A yes with other conditions */ otherwise: number }
  /** Moves of granted (party, action, resource) by a service, an action, a kind, a partner or a space */ MovesBy: { key: string; name?: string; gained: number; lost: number; otherwise: number }
  WideNumber: {
    change?: 'gained' | 'lost' | 'otherwise'; action: string; service: string
    /** Kind of resource */ kind: string
    /** Of look-up: everybody, or those of shared spaces (shared) */ scope?: string
    parties: number; resources: number; pairs: number
  }
  Numbered: { key: string; name?: string; parties?: number; /** Of them those who may do anything */ reaching?: number; /** (party, action, resource) */ granted: number; services?: { [key: string]: number } }
  Numbers: {
    stated: Schemas['Stated']
    /** Something changed since, and it is being counted again; asked for with soon */ behind?: boolean
    /** Records and live links */ parties: number
    reaching: number; granted: number
    /** Typical newcomers, counted apart */ newcomers: number
    services?: { [key: string]: number }; actions: Schemas['Numbered'][]; kinds: Schemas['Numbered'][]
    /** By id; none are those of no partner */ partners: Schemas['Numbered'][]
    /** The thousand with the most */ spaces: Schemas['Numbered'][]
    spaces_total: number; wide: Schemas['WideNumber'][]
  }
  NumberLine: { party: string; name?: string; kind: string; partner?: string; resource: string; resource_name?: string; actions: string[] }
  NumberLines: { stated: Schemas['Stated']; lines: Schemas['NumberLine'][]; next: string }
  ImpactLine: {
    who: string; name?: string; partner?: string; change: 'gained' | 'lost' | 'otherwise'; actions: string[]
    /** kind:* stands for several that are alike */ resource: string
    resource_name?: string
    /** Resources that the line stands for */ count: number
    wide: boolean
  }
  ImpactNewcomer: { who: string; name: string; partner?: string; action: string; kind: string; count: number; change: 'gained' | 'lost' | 'otherwise' }
  HeldChange: { where: string; rule: string; value: string; /** It becomes held back; else it is released */ held: boolean }
  Impact: {
    stated: Schemas['Stated']; at: string
    /** Nothing changes for anybody */ nothing: boolean
    /** What is expected and would be broken, with those who break it that do not now */ breaks?: Schemas['Expectation'][]
    parties: Schemas['Moves']; granted: Schemas['Moves']; services: Schemas['MovesBy'][]; actions: Schemas['MovesBy'][]
    kinds: Schemas['MovesBy'][]; partners: Schemas['MovesBy'][]
    /** The hundred with the most */ spaces: Schemas['MovesBy'][]
    spaces_total: number; wide: Schemas['WideNumber'][]
    /** What typical newcomers would become able to do or no longer */ newcomers: Schemas['ImpactNewcomer'][]
    links_stopped: string[]; links_started: string[]
    /** What people of ours would become able to do elsewhere, or no longer */ outward?: Schemas['ImpactOutward'][]
    /** Forwarders that would start or stop */ forwarders?: Schemas['ImpactForwarder'][]
    /** What outsiders could do in whatever people of ours present */ presenters?: Schemas['ImpactPresenters'][]
    /** Records that it would suspend or remove at once */ suspended?: number
    /** Guests whom shorter days suspend or remove at once */ cut_off?: Schemas['CutOff'][]
    cut_off_total?: number; held: Schemas['HeldChange'][]; held_total: number
    /** The first thousand */ lines: Schemas['ImpactLine'][]
    /** There are more lines; download all of them */ more: boolean
    /** In what the draft is looser */ loosens: string[]
    /** Somebody else must confirm */ second: boolean
    /** Of exactly what was weighed */ digest: string
  }
  CutOff: { party: string; name?: string; day: string; cause: string }
  RuleAudience: {
    stated: Schemas['Stated']; rule: string; value: string
    /** The value that it is held against */ tighter?: string
    parties: number; granted: number; services: Schemas['Numbered'][]; kinds: Schemas['Numbered'][]; partners: Schemas['Numbered'][]
    wide: Schemas['WideNumber'][]; newcomers: Schemas['ImpactNewcomer'][]; lines: Schemas['ImpactLine'][]; more: boolean
  }
  DraftBrief: {
    id: string; name: string; made_by: string; made: string; state: 'open' | 'waiting' | 'set' | 'published' | 'dropped'; edits: number
    quick?: boolean; back?: number; publish_at?: string
    /** Who asked to publish it */ asked_by?: string
    published?: number
  }
  DraftEdit: { kind: string; id: string; title: string; by?: string; at?: string; why?: string; changes: { field: string; was: string; now: string }[] }
  /** An edit of something that was changed otherwise meanwhile */ DraftConflict: { kind: string; id: string; title: string; fields: string[]; mine: { field: string; was: string; now: string }[]; theirs: { field: string; was: string; now: string }[] }
  Draft: {
    id: string; name: string; made_by: string; made: string; base: number
    /** The revision in force */ revision: number
    state: 'open' | 'waiting' | 'set' | 'published' | 'dropped'; quick?: boolean; back?: number; edits: Schemas['DraftEdit'][]
    /** Values that going back releases */ releases: Schemas['HeldChange'][]
    conflicts: Schemas['DraftConflict'][]
    /** It was brought up to date with a newer revision */ moved: boolean
    loosens: string[]; second: boolean; digest?: string
    weighed?: { by: string; at: string; why: string; digest?: string; publish_at?: string; confirmed_by?: string }; published?: number
    /** Why it is open again */ note?: string
  }
  Revision: { number: number; at: string; who: string; why: string; draft?: string; draft_name?: string; edits?: number; quick?: boolean; back?: number; asked_by?: string; confirmed_by?: string }
  RevisionView: { number: number; against: number; revision?: Schemas['Revision']; edits: Schemas['DraftEdit'][] }
  RemedyQuestion: { question: Schemas['Question']; /** The end that is proposed for grants and exceptions; absent is +30d */ until?: string; /** Count what each set would open besides, exact, and order by it */ counts?: boolean }
  RemedyTaken: { question: Schemas['Question']; until?: string; option: string; name?: string; why?: Schemas['Why'] }
  RemedyChange: { kind: string; text: string; side: 'ours' | 'theirs'; /** administrator, owner:ID, partner:ID or the party */ who: string; /** A draft can make it */ policy: boolean; until?: string; partner?: string; resource?: string }
  RemedyOption: { id: string; account: string; changes: Schemas['RemedyChange'][]; conditions: string[]; counts?: Schemas['RemedyCounts'] }
  RemedyCounts: {
    /** Typical newcomers that would gain */ newcomers: number
    /** Known parties and live links that would */ parties: number
    /** (party, action, resource) from no to yes, the asked one included */ granted: number
    wide_pairs: number
    /** What people of ours could do elsewhere: person, action and class of target, and forwarders that start */ outward?: number
    /** What is not counted */ not_counted?: string[]
    /** When all of it ends by itself; absent where something stays */ until?: string
  }
  Could: {
    who?: string; name?: string; resource?: string; at: string
    /** So often the answer is yes now: a party and a thing for each action */ now: number
    /** So often it could come to be yes, those of now among them */ could: number
    /** So many may now, typical newcomers and links that somebody could make left out */ parties_now: number
    /** So many known ones could */ parties_could: number
    lines: Schemas['CouldLine'][]
    /** Lines in all */ total: number
    next: string
  }
  EvidencePlan: {
    id: string
    /** What is recorded, in a sentence */ says: string
    party: string; action: string; resource: string
    /** Days */ every: number
    why: string; by: string
    /** When the next is made */ next: string
    /** The record that was made last */ last?: string
    /** Why the last could not be made */ problem?: string
    sign_off: string[]
  }
  CouldLine: {
    /** As a question names them; link:any is whoever holds a link that somebody makes */ who: string
    name: string
    /** Typical of whoever nobody knows yet */ newcomer: boolean
    kind: string; action: string
    /** What they would do */ title: string
    resource: string; resource_name: string
    /** It is a yes already */ now: boolean
  }
  CouldQuestion: { /** An address, *@domain for a typical newcomer, or link:any for whoever holds a link that somebody makes */ subject: string; action: string; resource: string }
  CouldWay: {
    subject: string; name?: string; action: string; title?: string; resource: string; resource_name?: string
    /** yes: it is so now; could: without any administrator or keeper it could come to be; no: it could not */ decision: 'yes' | 'could' | 'no'
    /** It takes more than six acts */ longer?: boolean
    /** In an order in which each can be done; as few as do */ acts: Schemas['CouldAct'][]
  }
  CouldAct: {
    kind: 'set_value' | 'admit' | 'let_join' | 'make_open' | 'any_sign_in' | 'passcode' | 'join' | 'contact' | 'invite' | 'share' | 'raise' | 'accept' | 'sign_up' | 'join_course' | 'become' | 'make_link' | 'bundle'
    text: string
    /** Who would do it, or one of those who could: person:ID or an address */ by: string
    by_name: string; resource?: string; rule?: string; value?: string
    /** For whom */ party?: string
    role?: string
    /** That is asked for and approved */ bundle?: string
    /** So many people could take this step today */ count: number
  }
  CouldCuts: { decision: 'yes' | 'could' | 'no'; /** The fewest parts first */ cuts: Schemas['CouldCut'][]; /** There may be others; the search ended before all was looked at */ more: boolean }
  CouldCut: {
    id: string; parts: Schemas['CutPart'][]
    /** So often a yes of today would be lost that needs a role: party, thing and action */ lost: number
    /** So often one that needs no role */ wide?: number
    /** So many known parties lose something */ parties: number
    /** So many kinds of newcomers lose something */ newcomers: number
    /** So often people of ours lose something that they do elsewhere */ outward: number
    /** So many links stop */ links?: number
    /** It changes nothing that is a yes today */ fits?: boolean
  }
  CutPart: {
    kind: 'limit' | 'opening' | 'bundle' | 'role'; text: string
    /** A draft can hold it */ policy: boolean
    rule?: string; value?: string; partner?: string; key?: string
    /** That nobody asks for any more */ bundle?: string
    person?: string; role?: string
  }
  CouldCutTaken: { question: Schemas['CouldQuestion']; /** Its id */ cut: string; name?: string; why?: string }
  Spare: {
    parts: Schemas['CutPart'][]
    /** Absent where there is too much to count. So often something could come to be without an administrator or keeper, now */ could?: number
    /** The same once they are taken away */ afterwards?: number
    /** So many known parties could come to less */ parties?: number
  }
  SpareTaken: { name?: string; why?: string }
  Remedies: { decision: 'yes' | 'no'; options: Schemas['RemedyOption'][]; /** What no change helps against, where there is no option */ hopeless: { account: string; text: string; next: string }[] }
  DoorStep: {
    step: 'questions' | 'waiting' | 'refused' | 'joined' | 'bundles'
    /** That was proved */ address: string
    /** To be answered */ questions?: string[]
    /** When they asked */ since?: string
    /** Why not */ answer?: string
    /** The course that they have joined */ space?: string
    role?: 'view' | 'contribute' | 'manage'
  }
  DoorAnswers: { /** To each question, in order */ answers?: string[]; language?: string }
  /** Somebody at the door who proved an address and wants a record of a guest */ SignUp: { address: string; asked: string[]; said: string[] }
  Gift: { resource: string; name: string; role: 'view' | 'contribute' | 'manage' }
  /** A resource of a bundle that is given with a lower role, or not at all */ BundleLess: { resource: string; /** view or contribute; absent, and nothing is given there */ role?: string }
  Holding: { party: string; bundle: string; from: string; until?: string; sponsor?: string; reviewed?: string; /** What follows from it */ gives: Schemas['Gift'][]; less?: Schemas['BundleLess'][] }
  /** What a bundle would open for a typical person */ BundleOpens: {
    /** Empty for people of no partner */ partner: string
    name: string
    /** Actions on resources */ granted: number
    /** Actions that need no role */ wide: number
    /** Why it would not be given to them */ shut?: string
    /** What of it would open nothing to them */ closed?: string[]
  }
  Bundle: {
    id: string; name: string; gives: Schemas['Gift'][]
    /** Whose people may ask for it */ partners: string[]
    /** The same, by name */ partner_names: string[]
    /** Anybody whose address may be invited may ask for it */ others: boolean
    /** Nobody may ask for it any more */ closed: boolean
    /** Who approves it, in order: sponsor, owner, keeper, administrator or a person's id; a keeper where it is empty */ approval: string[]
    questions: string[]
    /** For how long it is given at most; absent is as long as the rules let */ term_days?: number
    /** How often what it gives is to be confirmed, where the rules do not say so more often */ review_days?: number
    /** Bundles that nobody holds beside it */ not_with: string[]
    /** Whether whoever holds it extends it with the same approval or without */ extend: 'approved' | 'silent'
    etag: string
    /** How many hold it */ held: number
    /** How many ask for it and were not answered yet */ asked: number
    /** The first thousand */ holdings?: Schemas['Holding'][]
    opens?: Schemas['BundleOpens'][]
  }
  Bundles: { bundles: Schemas['Bundle'][]; revision: number }
  BundleChange: {
    /** Absent makes one of the name */ id?: string
    name: string
    /** Resources, each with its role */ gives: Schemas['BundleLess'][]
    partners?: string[]; others?: boolean; closed?: boolean; approval?: string[]; questions?: string[]; term_days?: number
    review_days?: number; not_with?: string[]; extend?: 'approved' | 'silent'; why?: Schemas['Why']
  }
  /** The fields of a bundle that are to be otherwise, and why; null takes one away, and what is not named stays (RFC 7396) */ BundlePatch: { [key: string]: unknown }
  HoldingEnd: { address: string; bundle: string; /** Take this out of it alone */ resource?: string; why?: Schemas['Why'] }
  RoundBegin: {
    name: string
    /** Of people of this partner alone */ partner?: string
    /** In this space alone, with all that is in it */ space?: string
    /** What follows from this bundle alone */ bundle?: string
    /** Of records in this state alone: active, invited or suspended */ state?: string
    /** Of records that came to be so alone: invited, shared, requested, fed or signed_up */ origin?: string
    /** Of guests of this person alone */ sponsor?: string
    /** Of records that somebody may want to look at alone: sponsor, grant, seen, terms, time or mail */ needs?: string
    /** The last day to answer: a date, or days from today as +30d */ until: string
    why?: Schemas['Why']
  }
  Round: {
    /** Empty in a preview */ id: string
    name: string
    /** What it asks about */ about: string
    partner?: string; space?: string; bundle?: string; state?: string; origin?: string; sponsor?: string; needs?: string; until: string
    why: string; by: string; made: string; lines: number
    /** Lines that nobody answered yet */ open: number
    /** Those that ask whoever asks */ mine: number
    /** Lines by state: open, kept, narrowed, ended, gone, silent */ states: { [key: string]: number }
    /** Who has not answered how many */ waits: Schemas['RoundWait'][]
    closed?: string
    /** The record of reach that was made at its end */ evidence?: string
    /** Of its lines at the end, SHA-256 in hex */ digest?: string
    /** Of a preview of its end: of the lines that nobody answered, so many whose role would end; the others count as reviewed */ ends?: number
    weighed?: Schemas['ValueWeighed']
  }
  RoundWait: { /** owner:ID or keeper */ who: string; name: string; lines: number }
  ReviewLine: {
    n: number
    /** An address, group:ID, partner:ID or domain:NAME */ party: string
    party_name?: string; resource: string
    /** Of the resource */ name: string
    role: 'view' | 'contribute' | 'manage'
    /** That it follows from */ bundle?: string
    from?: string
    /** When it ends by itself */ ends?: string
    purpose?: string; last_seen?: string
    /** How many actions they may do on it by a role */ opens?: number
    /** owner:ID or keeper */ reviewer: string
    reviewer_name: string; state: 'open' | 'kept' | 'narrowed' | 'ended' | 'gone' | 'silent'; by?: string; at?: string; why?: string
    /** The end that it was given */ until?: string
    /** The role that is held since */ narrowed?: 'view' | 'contribute' | 'manage'
    /** The item on which it is held since, in place of the whole space */ instead?: string
    instead_name?: string
    /** Of an answer: why nothing was done */ reason?: string
  }
  ReviewAnswer: {
    do: 'keep' | 'narrower' | 'end' | 'hand_over' | 'not_mine'
    /** By number; absent is all that wait for whoever answers */ lines?: number[]
    /** With keep: an earlier end */ until?: string
    /** With narrower: view or contribute; with an item it may be left out */ role?: string
    /** With narrower: an item of the space, which they keep in place of all of it */ item?: string
    /** With hand_over: a person of ours */ to?: string
    why?: Schemas['Why']
  }
  ReviewsDone: { done: number; refused: number; lines: Schemas['ReviewLine'][]; weighed?: Schemas['ValueWeighed'] }
  RequestDo: { why?: Schemas['Why']; /** Of a bundle: an earlier end than was asked for */ until?: string; /** Of a bundle: what is given less, or not */ less?: Schemas['BundleLess'][] }
  /** Without a bundle, what they may ask for is told and nothing is asked for */ BundleAsk: { bundle?: string; /** To each question, in order */ answers?: string[]; purpose?: string; /** Absent is as long as the bundle is given */ until?: string; language?: string; /** Instead: a request that they take back */ withdraw?: string }
  BundleFor: {
    id: string; name: string; gives: Schemas['Gift'][]; questions: string[]
    /** Until when it may be given at most */ most?: string
    /** Why it may not be asked for */ shut?: string
    /** Until when they hold it */ until?: string
    holds?: boolean
    /** Asking for it again extends it at once, without an approval */ extends?: boolean
    asked?: Schemas['BundleRequest']
  }
  BundleRequest: { id: string; name: string; made: string; until?: string; state: 'open' | 'refused' | 'works' | 'withdrawn' | 'lapsed'; answer?: string }
  Askable: { address: string; bundles: Schemas['BundleFor'][]; /** What became of what they asked for before, the latest first */ past: Schemas['BundleRequest'][] }
  /** A bundle that is asked for */ BundleAsked: {
    bundle: string; name?: string
    /** Who is to hold it */ address: string
    sponsor?: string; asked: string[]; said: string[]
    /** Absent is without an end */ until?: string
    gives?: Schemas['Gift'][]; less: Schemas['BundleLess'][]
    /** Whoever asks may take the next step of approving it */ may: boolean
    steps: Schemas['BundleStep'][]
  }
  BundleStep: {
    by: string
    /** By name */ who: string[]
    /** The account that approved */ given?: string
    at?: string
    /** Who is to decide, by name, where somebody else approved: they are away, or have left */ for?: string
    /** Who decides now, by name, where that is somebody else */ deciding?: string[]
  }
  ToldEvent: {
    n: number; kind: 'disabled' | 'enabled' | 'purged' | 'identifier_changed' | 'session_revoked' | 'verification' | 'other'
    address?: string; happened: string; came: string
    /** late: something newer was told before; nobody: no record is here */ result: 'done' | 'late' | 'nobody' | 'nothing'
    detail?: string
  }
  Feed: {
    partner: string
    /** Of the partner */ name: string
    /** watched: whom it tells of is kept, and no record is touched */ state: 'watched' | 'on'
    /** Why nobody comes in now */ shut?: string
    /** Who answers for those who come */ sponsor?: string
    sponsor_name?: string
    /** What of a user is their address; either: userName where it is one, else the primary mail */ address: 'either' | 'userName' | 'emails'
    /** What of a user is their name; any: the first that they have */ name_from: 'any' | 'displayName' | 'name'
    /** Their side says that it skips the question before the first use */ consent: boolean
    /** Nobody is asked before the first use, as both sides say so */ silent: boolean
    /** How many accounts it may close in a day; 0 for the setting brake */ brake: number
    /** How many that is now; absent for any number */ most?: number
    /** Where it speaks to us */ url: string
    /** Whom it keeps */ all: number
    active: number
    /** Whose records were not touched yet */ waiting: number
    /** What it closed of what it may in a day */ closed_today: number
    /** When it was heard of last */ heard?: string
    /** How many of its last hundred requests were refused */ wrong: number
    token_ends?: string; by: string; made: string
  }
  FeedBegin: {
    partner: string
    /** A person of ours who answers for those who come */ sponsor?: string
    /** watched, which it is where it is left out, or on */ state?: string
    /** either, userName or emails */ address?: string
    /** any, displayName or name */ name_from?: string
    /** Their side says that it skips the question before the first use */ consent?: boolean
    brake?: number; why?: Schemas['Why']
  }
  FeedChange: {
    sponsor?: string
    /** watched or on */ state?: string
    /** either, userName or emails */ address?: string
    /** any, displayName or name */ name_from?: string
    /** Their side says that it skips the question before the first use */ consent?: boolean
    brake?: number; why?: Schemas['Why']
  }
  FeedToken: { /** It is told this once */ token: string; feed: Schemas['Feed'] }
  FeedApplied: { /** How many by what became of them: new, taken_over, same, changed, closed, back, stays, nobody */ done: { [key: string]: number }; refused: number; left: number }
  FeedPerson: {
    n: number; id: string; user_name: string; address?: string; name?: string; language?: string; location?: string; active: boolean
    /** It has come to the record */ applied: boolean
    changed?: string
    /** What bringing them to the record does now */ would: 'new' | 'taken_over' | 'same' | 'changed' | 'closed' | 'back' | 'stays' | 'nobody' | 'refused'
    why?: string
  }
  FeedOut: {
    partner: string
    /** Of the partner */ name: string
    /** held: nothing is sent but by hand */ state: 'held' | 'on'
    /** Why nothing goes there now */ shut?: string
    /** That directory.feed_out is off for them, so that nobody is kept there but by an exception; absent where it is on */ off?: string
    /** Their server */ address: string
    /** Where the token is, as file:PATH or env:NAME */ key: string
    /** Whom it is about, of those for whom directory.feed_out is on */ scope: 'all' | 'groups' | 'people'
    /** The groups or people, by their ids */ of: string[]
    /** Minutes between two rounds */ every: number
    /** What becomes there of whoever leaves */ leavers: 'close' | 'remove'
    /** How many accounts it may close in a day; 0 for the setting brake */ brake: number
    /** How many that is now; absent for any number */ most?: number
    /** Whom it keeps there in use */ kept: number
    /** Who is there still, closed */ closed: number
    /** Of whom something was not taken */ failing: number
    /** What it closed of what it may in a day */ closed_today: number
    /** When it is sent next */ next?: string
    /** When sending began last, or goes on since */ began?: string
    /** When it ended; absent while it goes on */ ended?: string
    /** Of how many something was due then */ total?: number
    /** Of how many it was tried */ done?: number
    /** How many by what was done then: new, taken_over, changed, closed, removed, back */ did: { [key: string]: number }
    /** Why sending does not go on; absent where it does */ problem?: string
    /** Since when */ since?: string
    by: string; made: string
  }
  FeedOutBegin: {
    partner: string
    /** Their server, as https://host/scim/v2 */ address: string
    /** Where the token is that it wants, as file:PATH or env:NAME; never the token itself */ key: string
    /** held, which it is where it is left out, or on */ state?: string
    /** all, which it is where it is left out, groups or people */ scope?: string
    /** The groups or people, by their ids */ of?: string[]
    /** Minutes between two rounds, 15 where it is left out */ every?: number
    /** What becomes there of whoever leaves: close, which it is where it is left out, or remove */ leavers?: string
    /** How many accounts it may close in a day; 0 for the setting brake */ brake?: number
    why?: Schemas['Why']
  }
  FeedOutChange: {
    /** Their server, as https://host/scim/v2 */ address?: string
    /** Where the token is that it wants, as file:PATH or env:NAME; never the token itself */ key?: string
    /** held, which it is where it is left out, or on */ state?: string
    /** all, which it is where it is left out, groups or people */ scope?: string
    /** The groups or people, by their ids */ of?: string[]
    /** Minutes between two rounds, 15 where it is left out */ every?: number
    /** What becomes there of whoever leaves: close, which it is where it is left out, or remove */ leavers?: string
    /** How many accounts it may close in a day; 0 for the setting brake */ brake?: number
    why?: Schemas['Why']
  }
  FeedOutPerson: {
    person: string; name: string; address?: string
    /** What sending would do now */ do: 'new' | 'taken_over' | 'changed' | 'closed' | 'removed' | 'back' | 'same' | 'left_out' | 'braked'
    why?: string
    /** How they are kept there; tried: they were sent and no answer came */ kept: 'not' | 'tried' | 'kept' | 'closed'
    /** Why what is due was not taken */ problem?: string
    /** It is not tried again before then */ next?: string
  }
  FeedSent: {
    /** How many by what was done: new, taken_over, changed, closed, removed, back */ done: { [key: string]: number }
    /** Of whom something was not taken */ refused: number
    /** Of whom something is due still */ left: number
    /** Who is to be closed and is not, as the brake stands in the way */ braked: number
    /** Who is in the scope and is not kept there */ left_out: number
    /** Why it was given up */ problem?: string
  }
  FeedLook: {
    /** It answers, and takes the token */ well: boolean
    problem?: string
    /** What to do then */ advice?: string
    /** Of the answer that was no good */ status?: number
    took_ms: number
    /** It changes single attributes of a user */ patch: boolean
    /** Whom it says that it keeps */ there: number
    /** Of those that were read, with an address of ours */ ours: number
    /** How many were read */ read: number
    /** There with an address of ours, though the feed does not keep them; at most a hundred */ unkept: Schemas['FeedThere'][]
    /** Who seems to be there twice: by the feed, and under another address */ twins: Schemas['FeedTwin'][]
  }
  Connect: {
    partner: string; name: string; way: 'federation' | 'membership' | 'feed'
    /** Nothing is left */ done: boolean
    /** In their order */ steps: Schemas['ConnectStep'][]
    /** What becomes of those who are here, the first two hundred */ people: Schemas['ConnectPerson'][]
    /** How many by what becomes of them */ counts: { [key: string]: number }
    /** Who seems to be here twice */ twins: Schemas['FeedTwin'][]
  }
  ConnectStep: {
    do: 'open' | 'letter' | 'rule' | 'give' | 'feed' | 'feed_on' | 'tidy' | 'try'; text: string; done: boolean
    /** What is to be opened or admitted */ keys?: string[]
    /** The changes of inventory that it is made of */ edits?: Schemas['PlaceEdit'][]
    /** Of a step that tries */ question?: Schemas['Question']
  }
  ConnectPerson: { address: string; name?: string; /** Of the record; absent where there is none */ state?: string; roles: number; becomes: 'covered' | 'stronger' | 'elsewhere' | 'talks' | 'fed' | 'suspended' | 'barred'; text: string }
  FeedThere: { /** By which their server knows them */ id: string; user_name: string; name?: string; active: boolean }
  Passkey: { id: string; name: string; made: string; /** When it was used last */ used?: string; /** It counts until then, of guests; signing in by a mailed code lets it count for longer */ until?: string }
  House: {
    on: boolean
    /** Its address, as https://id.house.example */ issuer?: string
    /** As whom we are known there (client_id) */ client?: string
    /** Where our secret there is, as file:PATH or env:NAME; without one we are a public client */ key?: string
    /** What of a token names roles; groups where it is left out */ claim?: string
    /** The role here for each value of the claim: administrator, keeper, auditor or member; of several the mightiest counts */ roles?: { [key: string]: string }
    /** The second factor is that sign-in's own business; without it, roles that have to have one come in only where the token says that it was asked (amr) */ trusted?: boolean
    /** Where it leads back to, which is to be entered there (redirect URI) */ back: string
    by?: string; made?: string
    /** How many accounts it vouches for */ known?: number
  }
  HouseSet: {
    /** Its address, as https://id.house.example */ issuer: string
    /** As whom we are known there (client_id) */ client: string
    /** Where our secret there is, as file:PATH or env:NAME; without one we are a public client */ key?: string
    /** What of a token names roles; groups where it is left out */ claim?: string
    /** The role here for each value of the claim: administrator, keeper, auditor or member; of several the mightiest counts */ roles: { [key: string]: string }
    /** The second factor is that sign-in's own business; without it, roles that have to have one come in only where the token says that it was asked (amr) */ trusted?: boolean
    why?: Schemas['Why']
  }
  FeedLine: { n: number; at: string; /** new, taken_over, same, changed, closed, back, stays, nobody, removed, watched, refused or braked */ what: string; user?: string; address?: string; detail?: string }
  FeedTwin: { name: string; /** The address that the feed keeps */ fed: string; /** The other */ guest: string; differs: string[] }
  Absence: {
    person: string; name: string
    /** A person of ours who decides meanwhile; without one a keeper does */ deputy?: string
    deputy_name?: string; from: string; until: string; why: string
    /** It has begun */ on: boolean
    /** Requests for bundles that wait for them now */ requests: number
    /** Lines of reviews that wait for them now */ lines: number
  }
  AbsenceSet: {
    /** Who is away; without it, whoever says so */ person?: string
    /** A person of ours who decides meanwhile; without one a keeper does */ deputy?: string
    /** A day, or +3d; without it, now */ from?: string
    /** The last day, or +14d */ until: string
    why?: Schemas['Why']
  }
  AskedBundle: { bundle: string; /** Who is to hold it */ address: string; /** To each question, in order */ answers?: string[]; until?: string; /** A person of ours who is to answer for it; absent is whoever asks */ sponsor?: string; language?: string }
  AskedValue: { /** partner:ID, space:ID, meeting:ID or an item as file:ID */ where: string; rule: string; /** Absent: that the place say nothing of the rule */ value?: string }
  /** A refused question, changes or a value that are not theirs to make, or a bundle for somebody outside; one of the four */ NewRequest: { question?: Schemas['Question']; bundle?: Schemas['AskedBundle']; value?: Schemas['AskedValue']; changes?: Schemas['PlaceEdit'][]; purpose: string }
  Dialect: { /** What one system here says of itself, by whose id it goes; no kind to add others of */ described?: boolean; name: string; title: string; services: string[]; lines: Schemas['DialectLine'][] }
  DialectLine: { rule: string; layer: string; part: string; fidelity: 'exact' | 'tighter' | 'by_hand' | 'none'; path?: string; says?: string; /** How long a change takes to count; absent where nobody knows */ seconds?: number }
  Trials: { trials: Schemas['Trial'][]; /** How many (party, action, resource) those that were admitted or refused stand for */ stand_for: number; contradictions: number; /** The record of reach that was made at the end */ evidence?: string }
  Trial: {
    id: string; at: string; by: string; revision: number
    /** The moment of the reading that it is held against */ read?: string
    system?: string; subject: string; action: string; resource: string; address?: string
    /** The address that was made for it */ from?: string
    /** As whom it came */ as?: 'stranger' | 'guest' | 'holder' | 'ours'
    /** It was refused at the other end, by the house that it comes from */ theirs?: boolean
    /** The account or the link for it was refused */ making?: boolean
    meant: 'yes' | 'no'; found?: 'yes' | 'no' | 'unsure'; outcome: 'admitted' | 'refused' | 'silent' | 'too_early' | 'not_tried'
    /** In the words of the system, or why nothing was tried */ says?: string
    /** It contradicts what was read there */ contradiction?: boolean
    milliseconds?: number
  }
  Counted: { granted: number; wide: number; newcomers: number }
  NewSystem: { id: string; name: string; dialect: string; address: string; /** Where its key is: file:PATH or env:NAME; never the key itself */ key: string; /** From the end of one reading to the next */ minutes?: number; why?: string }
  SystemChange: {
    name?: string; address?: string; key?: string; mode?: 'look' | 'carry' | 'paused'; put_back?: 'no' | 'beyond'
    /** What can be tried there is tried every night */ nightly?: boolean
    minutes?: number
    /** Kinds of inventory that people make there, so that what is found flows in */ sources?: string[]
    /** How many guests, grants and links may be taken away there in a day before somebody is asked; 0 for any number */ brake?: number
    /** Of what carrying it writes */ digest?: string
    /** Take what it says now that it can hold; it is looked at until somebody carries it again */ describe?: boolean
    why: string
  }
  /** An entry of inventory as a system may keep it, in our words */ Thing: { [key: string]: string }
  SystemRecord: {
    /** What a decision names it by */ key: string
    /** What it is known by here */ ours?: string
    /** Its id there */ native?: string
    state: 'unknown' | 'drift' | 'waiting' | 'sent' | 'settling' | 'confirmed' | 'differs' | 'failed' | 'by_hand'
    turn?: 'loosens' | 'tightens' | 'both' | 'same' | 'unclear'; meant?: Schemas['Thing']; found?: Schemas['Thing']
    /** Who made or changed it there, where the system tells */ by?: string
    since?: string
    /** Until when it is let be */ accepted?: string
    problem?: string; cause?: string
  }
  /** What a system keeps of one kind of our inventory */ SystemKind: {
    kind: 'group' | 'person' | 'space' | 'guest' | 'grant' | 'link' | 'forwarder' | 'meeting'
    /** What the system calls them */ name: string
    title: string
    /** What of the kind it cannot keep */ says?: string
    /** People make them there, and what they make is made here */ source: boolean
    can_be_source: boolean; found: number
    /** Of those, what stands for nothing here */ unknown: number
    /** Of what stands for nothing, what is let be */ accepted: number
    confirmed: number; open: number; differ: number; drift: number
  }
  RecordDecision: {
    do: 'take_over' | 'end_there' | 'put_back' | 'take_in' | 'accept' | 'again' | 'release' | 'empty'
    kind?: 'group' | 'person' | 'space' | 'guest' | 'grant' | 'link' | 'forwarder' | 'meeting'; keys?: string[]
    /** Every record that it fits, instead of keys */ all?: boolean
    /** Of guests taken over: a person of ours who answers for them */ sponsor?: string
    /** Of guests taken over: what they are here for */ purpose?: string
    /** Their end, or until when they are let be */ until?: string
    /** That many end at once is meant */ confirm?: boolean
    why?: Schemas['Why']
  }
  RecordsDecided: { lines: { key: string; result: 'done' | 'refused'; says: string }[]; done: number; refused: number; /** Dates of the guests that come wait until somebody releases them */ waits: boolean; weighed?: Schemas['ValueWeighed'] }
  ExtraSetting: { path: string; value: string }
  UnreadSetting: { path: string; rule: string; why: string }
  SettingDrift: { found: string; after: string; since: string; accepted?: string; by?: string; why?: string }
  SystemView: {
    id: string; name: string; dialect: string; title: string; services: string[]; address: string; key: string
    mode: 'look' | 'carry' | 'paused'; minutes: number; put_back: string; nightly: boolean
    /** Actions that can be tried there */ tries: string[]
    /** When it was read last; absent where it never was */ read?: string
    /** Since when it says what it says */ since?: string
    /** Why it could not be read or written when that was tried last */ problem?: string
    tried?: string
    /** Settings that are found otherwise than meant */ differ: number
    /** Of them, those that were confirmed and were changed there */ drift: number
    /** Settings that are on their way */ open: number
    /** Settings that carrying it writes */ write: number
    digest: string; beyond: Schemas['Counted']; short: Schemas['Counted']; unsure: Schemas['Counted']
    settings: Schemas['SystemSetting'][]
    /** Settings there that carry no rule of ours */ extra: Schemas['ExtraSetting'][]
    /** Rules for which it asks live while it acts */ asks: Schemas['SystemAsks'][]
    unread: Schemas['UnreadSetting'][]
    /** What it keeps of our inventory */ kinds: Schemas['SystemKind'][]
    /** How many guests, grants and links may be taken away there in a day before somebody is asked; 0 for any number */ brake: number
    /** How many wait because of that */ braked: number
    /** So many of its records stand otherwise that it is not counted who gains and who loses */ many?: boolean
    /** Kinds of which a reading showed none, though there were some */ empty?: string
  }
  SystemAsks: { rule: string; rule_title: string; /** It asks; else it decides by itself */ on: boolean; /** What is open when nobody answers; absent where it refuses then */ open?: string }
  SystemSetting: {
    path: string; title: string; rule: string; rule_title: string; meant: string; found?: string; there: boolean; by_hand: boolean
    /** It is a set of values for a domain, a space or a person */ set?: boolean
    /** What of a set that is meant differs from the general values */ meant_own?: string
    /** What of a set that was found does */ found_own?: string
    /** Which way it goes from what is found to what is meant */ turn?: 'loosens' | 'tightens' | 'both' | 'same' | 'unclear'
    state?: 'waiting' | 'sent' | 'settling' | 'confirmed' | 'differs' | 'failed' | 'by_hand'; cause?: string; was?: string
    sent?: string
    /** From when it is expected to count */ counts?: string
    confirmed?: string; problem?: string; drift?: Schemas['SettingDrift']
  }
  Request: {
    id: string; by: string; person?: string; question?: Schemas['Question']
    /** What is to be changed; then there is no question */ changes?: Schemas['PlaceEdit'][]
    value?: Schemas['AskedValue']; sign_up?: Schemas['SignUp']
    /** The question or the changes in a sentence */ title: string
    purpose: string
    /** Who can change it: administrator, keeper, owner:ID, partner:ID, the party */ to: string[]
    /** The same, by name */ to_names: string[]
    made: string; state: 'open' | 'drafted' | 'answered' | 'refused' | 'works' | 'withdrawn' | 'lapsed'
    bundle?: Schemas['BundleAsked']; draft?: string
    /** The answer or the reason of a no */ answer?: string
    closed?: string; closer?: string; heard: boolean
  }
  GuestLink: { id: string; item: string; right: string; until?: string }
  Narrower: { into: string; role: string; until?: string; text: string; opened: number }
  Gained: { action: string; resource: string; name?: string }
  DueDay: { day: string; kinds: { [key: string]: number } }
  ListKind: { what: string; columns: string[]; /** Those that a file must have */ needs: string[]; /** Those that hold several values, between semicolons */ many: string[] }
  ListError: { line: number; column?: string; value?: string; text: string }
  ListChange: { line: number; what: string; id: string }
  OwnPlace: { name: string; role?: string; until?: string; can: string[]; items?: string[] }
  DueDays: { days: Schemas['DueDay'][]; total: number; kinds: { [key: string]: number } }
  DueSupposing: { address: string; do: 'extend' | 'end_grant' | 'suspend' | 'bring_back' | 'end' | 'remove' | 'confirm' | 'suspend_partner' | 'end_partner'; until?: string; grants?: boolean; resource?: string }
  DueSupposed: { was: Schemas['DueStep'][]; will: Schemas['DueStep'][]; /** Why it cannot be done */ reason?: string }
  GuestShort: {
    address: string; name?: string; partner?: string; sponsor?: string; sponsor_name?: string; purpose?: string
    state: 'active' | 'invited' | 'suspended'; cause?: string; origins: string[]; since?: string; last_seen?: string; grants?: number
    /** When it is suspended or removed next */ ends?: string
    ends_because?: string; ends_what?: string
  }
  Guest: {
    short: Schemas['GuestShort']; accepted?: string; renewed?: string; until?: string; state_since?: string; terms?: string
    language?: string; location?: string; licence?: string; home_closed?: string; welcome?: string; groups: string[]
    grants: Schemas['GuestGrant'][]; links: Schemas['GuestLink'][]; steps: Schemas['DueStep'][]; wish?: Schemas['Wish']
  }
  GuestGrant: { resource: string; name?: string; role: string; from?: string; until?: string; sponsor?: string; reviewed?: string; live: boolean; group?: string; /** The bundle that it follows from */ bundle?: string }
  GuestChange: {
    do: 'extend' | 'suspend' | 'bring_back' | 'end' | 'remove' | 'end_grant' | 'confirm' | 'hand_over' | 'describe' | 'invite_again' | 'remind'
    addresses: string[]; reason?: string
    /** The new end; absent as far as one extension may go */ until?: string
    /** Grants that would end before are extended too */ grants?: boolean
    resource?: string; role?: string; sponsor?: string; name?: string; purpose?: string; language?: string; location?: string
    licence?: string
  }
  GuestChanged: {
    address: string; name?: string; done: boolean; reason?: string; was?: Schemas['DueStep'][]; will?: Schemas['DueStep'][]
    /** Granted actions that are lost at once */ lost?: number
    /** Granted actions that come at once */ gained?: number
  }
  GuestMerge: { from: string; into: string; reason?: string }
  GuestMerged: { from: string; into: string; grants: number; groups: number; /** Granted actions */ was: number; /** Granted actions */ will: number; gained: Schemas['Gained'][]; steps: Schemas['DueStep'][] }
  Invitation: {
    /** Addresses, one a line or between commas; a name may stand before one in angle brackets */ list: string
    /** directory, space:ID, group:ID, or an item as folder:ID */ into?: string
    role?: 'view' | 'contribute' | 'manage'; purpose?: string
    /** Own words of welcome */ text?: string
    landing?: string; sponsor?: string; as?: string; until?: string; language?: string; location?: string; licence?: string
  }
  Invited: {
    lines: Schemas['InvitedLine'][]; counts: { [key: string]: number }; as: string; sponsor: string; into: string; until?: string
    opens: Schemas['InvitationOpens'][]; narrower: Schemas['Narrower'][]; missing: string[]
    /** With preview, what the first of them would read */ mail?: { subject: string; text: string }
    /** What stays open for everybody whatever their gates say */ residual?: string
  }
  InvitedLine: { check: Schemas['CheckLine']; name?: string; done?: 'invited' | 'given' }
  InvitationOpens: { of: string; count: number; who: string; /** Actions on resources */ opened: number; /** Kinds of action that need no role */ wide: number; lines: Schemas['WouldLine'][]; steps: Schemas['DueStep'][] }
  Leaving: { at?: string; successor?: string; reason?: string }
  Offer: { id: string; from: string; to: string; guests: number; grants: number; made: string; by: string; state: string; reason?: string }
  OfferAnswer: { accept: boolean }
  Wish: { address: string; until?: string; text?: string; made: string; state: string; answer?: string }
  WishAnswer: { grant: boolean; until?: string; text?: string }
  OutboxMessage: { id: number; recipient: string; kind: string; state: string; made: string; due?: string; sent?: string; tries: number; error?: string }
  ListTaken: {
    lines: number; added: number; changed: number; same: number
    /** Which column of the file is which of ours */ columns?: { [key: string]: string }
    /** Columns of the file that are none of ours */ ignored?: string[]
    errors: Schemas['ListError'][]; sample?: Schemas['ListChange'][]
    /** The dates of the records that came wait */ waits?: boolean
    going?: Schemas['DatesGoing']
  }
  DoorKey: { key: string }
  DoorAsk: { key?: string; address?: string; /** That of the page; mail follows it where no record says one */ language?: string; /** The id of a course of ours that they come to join */ join?: string }
  DoorProof: { key?: string; address?: string; code: string; /** That of the page; a newcomer's record takes it */ language?: string; /** The id of a course of ours that they come to join */ join?: string }
  DoorInvitation: { organisation: string; by: string; masked: string; language: string }
  Own: {
    organisation: string; address: string; name?: string; state: string; language: string; purpose?: string; sponsor?: string
    sponsor_address?: string; terms: string; terms_owed: boolean
    /** When they accepted terms; absent where they never did */ terms_accepted?: string
    accepted?: string; landing?: string
    /** The last day that holds */ until?: string
    /** The cause of the end */ until_because?: string
    may_leave: boolean; wish?: Schemas['Wish']; places: Schemas['OwnPlace'][]
    /** What they can do besides that belongs to no place */ more?: string[]
  }
  OwnAccept: { terms?: boolean; /** Their name; taken where the record has none */ name?: string }
  OwnMore: { until?: string; text: string }
  OwnLanguage: { language: string }
  DueStep: {
    at: string; party: string; name?: string; partner?: string; sponsor?: string
    kind: 'grant_ends' | 'review_due' | 'suspended' | 'removed' | 'invitation_lapses'; what: string; cause: string; because: string
    resource?: string; resource_name?: string; role?: string
  }
  JournalEntry: { seq: number; part_of: number; at: string; who: string; kind: string; id: string; was?: string; now?: string; why: string; revision: number }
  Overview: {
    organisation: string; revision: number; counts: { [key: string]: number }; services: Schemas['ServiceState'][]
    soon: Schemas['Ending'][]; suspended: string[]; todo: Schemas['Todo'][]
    /** Known parties by kind */ by_kind?: { [key: string]: number }
    /** Known parties by the name of their partner; at no partner under the empty name */ by_partner?: { [key: string]: number }
    /** The moment that opened_in_before and opened_out_before are of; absent while nothing was recorded then */ month_ago?: string
  }
  ServiceState: { service: string; opened_in: number; opened_out: number; /** A month ago */ opened_in_before?: number; opened_out_before?: number; /** Rules whose default is looser than advised */ looser: number }
  Ending: { what: string; who: string; when: string; /** The last local day that still holds */ last_day: string }
  Todo: { text: string; href: string }
}

/** Some fields of a record: null takes one away, those that are not named stay (RFC 7396). */
export type Patch<T> = T extends unknown[] ? T : T extends object ? { [F in keyof T]?: Patch<T[F]> | null } : T

/** What each operation takes and answers with. */
export interface Operations {
  /** Who is signed in */ 'GET /api/v1/session': { answer: Schemas['Session'] }
  /** Sign in to the console */ 'POST /api/v1/session': { body: Schemas['Credentials']; answer: Schemas['Session'] }
  /** Sign out of the console */ 'DELETE /api/v1/session': { answer: undefined }
  /** End one of one's own sessions */ 'DELETE /api/v1/sessions/{id}': { path: { id: string }; answer: undefined }
  /** Where one is signed in to the console */ 'GET /api/v1/sessions': { answer: { sessions: Schemas['OpenSession'][] } }
  /** Sign out everywhere; every session and every token of one's own is over for good */ 'DELETE /api/v1/sessions': { answer: undefined }
  /** Change one's own password; every other session and every token of one's own ends */ 'PUT /api/v1/account/password': { body: { /** The password that counts now */ old: string; new: string }; answer: undefined }
  /** How one's own second factor stands */ 'GET /api/v1/account/second-factor': { answer: Schemas['Factor'] }
  /** Begin to set up one's own second factor */ 'POST /api/v1/account/second-factor': { body: { password: string }; answer: Schemas['FactorBegun'] }
  /** Give a first code; from then on one is asked for at every sign-in */ 'POST /api/v1/account/second-factor/confirm': { body: Schemas['FactorProof']; answer: Schemas['RecoveryCodes'] }
  /** Take one's own second factor away */ 'POST /api/v1/account/second-factor/remove': { body: Schemas['FactorProof']; answer: undefined }
  /** Take away the second factor of somebody who lost it; their sessions and tokens end */ 'POST /api/v1/accounts/{name}/reset-factor': { path: { name: string }; body: { why: Schemas['Why'] }; answer: undefined }
  /** Own tokens; for administrators all */ 'GET /api/v1/tokens': { answer: { tokens: Schemas['Token'][] } }
  /** Exchange name and password for a token of the client */ 'POST /api/v1/tokens': { body: Schemas['Credentials']; answer: Schemas['NewToken'] }
  /** End a token */ 'DELETE /api/v1/tokens/{id}': { path: { id: string }; answer: undefined }
  /** Make a token for a service, with one purpose and an end */ 'POST /api/v1/service-tokens': {
    body: {
      name: string
      /** What it may: ask (decisions), read metrics, read access and reports (reading), read lists (lists), bring guests in and look after them (guests), judge what is expected (expectations). docs/operations.md says which operations each may call */ purpose: 'decisions' | 'metrics' | 'reading' | 'lists' | 'guests' | 'expectations'
      days: number
    }
    answer: Schemas['NewToken']
  }
  /** Accounts that may sign in */ 'GET /api/v1/accounts': { answer: { accounts: Schemas['Account'][] } }
  /** Make an account */ 'POST /api/v1/accounts': { body: Schemas['NewAccount']; answer: Schemas['Account'] }
  /** Change an account; fields that are not named stay as they are */ 'PATCH /api/v1/accounts/{name}': { path: { name: string }; body: Patch<Schemas['AccountChange']>; answer: Schemas['Account'] }
  /** End every session and every token of an account for good */ 'POST /api/v1/accounts/{name}/sign-out': { path: { name: string }; body: { why?: Schemas['Why'] }; answer: undefined }
  /** Ask whether somebody may do something, with every gate */ 'POST /api/v1/ask': { body: Schemas['Question']; answer: Schemas['Answer'] }
  /** Each action with yes or no for one party */ 'GET /api/v1/reach': { query: { who: string; at?: string }; answer: Schemas['Reach'] }
  /** Everybody outside who can do something with a resource, with action, through what, since and until when */ 'GET /api/v1/audience': { query: { resource: string; all?: boolean; action?: string; q?: string; kind?: 'guest' | 'provisioned' | 'federated' | 'personal' | 'bearer'; at?: string; cursor?: string; limit?: number }; answer: Schemas['Audience'] }
  /** Parties against services, in numbers (granted and wide kept apart) */ 'GET /api/v1/board': { query?: { who?: string; q?: string; at?: string; cursor?: string; limit?: number }; answer: Schemas['Board'] }
  /** What one party may do at one moment and not at another, or one party and not another, each explained */ 'GET /api/v1/diff': { query: { who: string; and_who?: string; at?: string; and_at?: string; meant_found?: boolean }; answer: Schemas['Diff'] }
  /** The whole of a result as a page that prints or as CSV, stating organisation, revision, moment, method and what was not looked at */ 'GET /api/v1/report/{what}': { path: { what: 'audience' | 'board' | 'diff' | 'reach' }; query?: { form?: 'html' | 'csv'; resource?: string; all?: boolean; action?: string; kind?: string; q?: string; who?: string; and_who?: string; at?: string; and_at?: string }; answer: string }
  /** Ids and names that a text may mean */ 'GET /api/v1/complete': { query: { kind: 'who' | 'action' | 'resource' | 'partner' | 'person' | 'rule' | 'domain' | 'address' | 'bundle' | 'group' | 'space' | 'meeting' | 'item' | 'member' | 'party' | 'domain_list'; q?: string; action?: string; limit?: number }; answer: { items: Schemas['Suggestion'][] } }
  /** Rules, guests, partners, people, spaces and meetings that everyday words may mean, the best of each first */ 'GET /api/v1/find': { query: { q: string }; answer: { found: Schemas['FoundThing'][] } }
  /** What the first page shows */ 'GET /api/v1/overview': { answer: Schemas['Overview'] }
  /** The catalogue of actions */ 'GET /api/v1/actions': { answer: { actions: Schemas['Action'][] } }
  /** The catalogue of rules with limit, default and what is set below */ 'GET /api/v1/rules': { query?: { find?: string }; answer: { rules: Schemas['Rule'][] } }
  /** One rule with every value that is set below */ 'GET /api/v1/rules/{rule}': { path: { rule: string }; answer: Schemas['Rule'] }
  /** Change the organisation's limit or default of a rule; what is not named stays as it is */ 'PATCH /api/v1/rules/{rule}': { path: { rule: string }; body: Patch<Schemas['RuleChange']>; answer: Schemas['Rule'] }
  /** Partners */ 'GET /api/v1/partners': { query?: { q?: string; cursor?: string; limit?: number }; answer: { partners: Schemas['Partner'][]; /** How many there are on all pages */ total: number; /** Cursor of the next page; empty at the end */ next: string } }
  /** Add a partner */ 'POST /api/v1/partners': { query?: { preview?: boolean }; body: Schemas['PartnerPatch']; answer: Schemas['Partner'] }
  /** One partner */ 'GET /api/v1/partners/{id}': { path: { id: string }; answer: Schemas['Partner'] }
  /** Change what the policy says of a partner; fields that are not named stay as they are */ 'PATCH /api/v1/partners/{id}': { path: { id: string }; query?: { preview?: boolean }; body: Patch<Schemas['PartnerPatch']>; answer: Schemas['Partner'] }
  /** Suspend a partner, bring it back or end it */ 'POST /api/v1/partners/{id}/standing': { path: { id: string }; query?: { preview?: boolean }; body: { standing: 'active' | 'suspended' | 'ended'; why?: Schemas['Why'] }; answer: Schemas['Partner'] }
  /** Make one partner of two; the record of the one that stays counts for everybody */ 'POST /api/v1/partners/{id}/merge': { path: { id: string }; query?: { preview?: boolean }; body: { into: string; why?: Schemas['Why'] }; answer: Schemas['Rearranged'] }
  /** Make a new partner of some domains of another, alike in everything, so that nobody's reach changes */ 'POST /api/v1/partners/{id}/split': { path: { id: string }; query?: { preview?: boolean }; body: { /** Those that become the new partner's; *.name takes what is below along */ domains: string[]; id: string; name: string; why?: Schemas['Why'] }; answer: Schemas['Rearranged'] }
  /** Add a domain to a partner */ 'POST /api/v1/partners/{id}/domains': { path: { id: string }; query?: { preview?: boolean }; body: { domain: string; subdomains?: boolean; /** It looks like another domain and is meant all the same */ look_alike?: boolean; why?: Schemas['Why'] }; answer: Schemas['Partner'] }
  /** Take a domain from a partner */ 'DELETE /api/v1/partners/{id}/domains/{domain}': { path: { id: string; domain: string }; query?: { why?: string; preview?: boolean }; answer: Schemas['Partner'] }
  /** When somebody else must confirm what is published */ 'GET /api/v1/two-people': { answer: Schemas['TwoPeople'] }
  /** Change when somebody else must confirm what is published */ 'PUT /api/v1/two-people': { body: { when: 'never' | 'loosening' | 'always'; why?: Schemas['Why'] }; answer: Schemas['TwoPeople'] }
  /** Domains and addresses that never get in */ 'GET /api/v1/bars': { answer: { bars: Schemas['Bar'][] } }
  /** Bar a domain or an address */ 'POST /api/v1/bars': { body: Schemas['Bar']; answer: Schemas['Bar'] }
  /** Lift a bar */ 'DELETE /api/v1/bars/{key}': { path: { key: string }; query?: { why?: string }; answer: undefined }
  /** The domains of partners, the barred ones with barred addresses, or the personal ones, as the import takes them */ 'GET /api/v1/domains': { query: { list: 'partner' | 'barred' | 'personal'; partner?: string; form?: 'csv' | 'text' }; answer: string }
  /** Import a list of domains, with a result for every line CSV where the first line names columns (name, subdomains, look_alike, partner, reason), else an entry on each line, with *. before it where what is below is meant too and a reason behind #. With a refused line nothing is written, unless only_good is said. */ 'POST /api/v1/domains/import': { query: { list: 'partner' | 'barred' | 'personal'; partner?: string; replace?: boolean; only_good?: boolean; preview?: boolean; why?: string }; body: string; type: 'text/csv'; answer: Schemas['DomainsImported'] }
  /** Which entry decides for an address, and why */ 'GET /api/v1/domains/test': { query: { address: string }; answer: Schemas['DomainTest'] }
  /** Every value of a rule for a place, available or not, and whose word stands against it */ 'GET /api/v1/choices': { query: { rule: string; where?: string; person?: string; party?: string; at?: string }; answer: Schemas['Choices'] }
  /** What a partner, space, item or meeting sets, and what it may set */ 'GET /api/v1/values/{where}': { path: { where: string }; answer: Schemas['Values'] }
  /** Set a value below the organisation */ 'PUT /api/v1/values/{where}/{rule}': { path: { where: string; rule: string }; query?: { preview?: boolean }; body: Schemas['ValueChange']; answer: Schemas['Values'] }
  /** Take a value away */ 'DELETE /api/v1/values/{where}/{rule}': { path: { where: string; rule: string }; query?: { why?: string; preview?: boolean }; answer: Schemas['Values'] }
  /** Sets of access that people outside may ask for */ 'GET /api/v1/bundles': { answer: Schemas['Bundles'] }
  /** Make a bundle */ 'POST /api/v1/bundles': { body: Schemas['BundleChange']; answer: Schemas['Bundle'] }
  /** A bundle, with who holds it, what it would open for a typical person of each partner, and why not where it would not */ 'GET /api/v1/bundles/{id}': { path: { id: string }; answer: Schemas['Bundle'] }
  /** Take away a bundle that nobody ever held */ 'DELETE /api/v1/bundles/{id}': { path: { id: string }; query?: { why?: string }; answer: undefined }
  /** Change a bundle; fields that are not named stay as they are */ 'PATCH /api/v1/bundles/{id}': { path: { id: string }; body: Patch<Schemas['BundlePatch']>; answer: Schemas['Bundle'] }
  /** Rounds of review, the newest first; of members those that ask them something */ 'GET /api/v1/reviews': { answer: { rounds: Schemas['Round'][] } }
  /** Ask of everything that is held within a scope whether it is still needed */ 'POST /api/v1/reviews': { query?: { preview?: boolean }; body: Schemas['RoundBegin']; answer: Schemas['Round'] }
  /** A round of review and how far it has come */ 'GET /api/v1/reviews/{id}': { path: { id: string }; answer: Schemas['Round'] }
  /** What a round asks, line by line; of members what it asks them */ 'GET /api/v1/reviews/{id}/lines': { path: { id: string }; query?: { state?: 'open' | 'kept' | 'narrowed' | 'ended' | 'gone' | 'silent'; mine?: boolean; after?: number; limit?: number }; answer: { lines: Schemas['ReviewLine'][]; /** Ask for more behind this number; absent where there are no more */ next?: number } }
  /** Answer lines of a round, one or many; each is done or refused by itself */ 'POST /api/v1/reviews/{id}/answers': { path: { id: string }; query?: { preview?: boolean }; body: Schemas['ReviewAnswer']; answer: Schemas['ReviewsDone'] }
  /** End a round before its day; what nobody answered is as at its end */ 'POST /api/v1/reviews/{id}/end': { path: { id: string }; query?: { preview?: boolean }; body: Schemas['WhyOnly']; answer: Schemas['Round'] }
  /** End what somebody holds of a bundle, or take one resource out of it */ 'POST /api/v1/holdings/end': { query?: { preview?: boolean }; body: Schemas['HoldingEnd']; answer: Schemas['PlacesChanged'] }
  /** What is expected of access, and whether it is so */ 'GET /api/v1/expectations': { query?: { state?: 'held' | 'broken' | 'unknown' }; answer: Schemas['Expectations'] }
  /** Expect something of access */ 'POST /api/v1/expectations': { query?: { preview?: boolean }; body: Schemas['ExpectationChange']; answer: Schemas['Expectation'] }
  /** Judge expectations anew, now and on each of the next 30 days */ 'POST /api/v1/expectations/judge': { body: { /** Absent is all of them */ ids?: string[] }; answer: Schemas['Expectations'] }
  /** What might be expected, from what is there; each is so today */ 'GET /api/v1/expectations/proposed': { answer: Schemas['Expectations'] }
  /** An expectation, with the first hundred who break it and its history */ 'GET /api/v1/expectations/{id}': { path: { id: string }; answer: Schemas['Expectation'] }
  /** Expect something no longer */ 'DELETE /api/v1/expectations/{id}': { path: { id: string }; query?: { why?: string }; answer: undefined }
  /** Change an expectation; fields that are not named stay as they are */ 'PATCH /api/v1/expectations/{id}': { path: { id: string }; body: Patch<Schemas['ExpectationPatch']>; answer: Schemas['Expectation'] }
  /** Records of reach, the newest first */ 'GET /api/v1/evidence': { answer: { records: Schemas['Evidence'][] } }
  /** Make a record of reach, signed and taken into the journal */ 'POST /api/v1/evidence': {
    body: {
      /** Of whom, as an expectation says it; absent is everybody */ party?: string
      /** An action, SERVICE.* or *, which is meant where it is absent */ action?: string
      /** kind:id, of which a space is meant with all in it; absent is everything */ resource?: string
      /** A moment of the past; absent is now */ at?: string
      /** Accounts that must sign it off */ sign_off?: string[]
      why: string
    }
    answer: Schemas['Evidence']
  }
  /** Records of reach that are made again and again, the next first */ 'GET /api/v1/evidence-plans': { answer: { plans: Schemas['EvidencePlan'][] } }
  /** Have a record of reach made every so many days, the first within a minute */ 'POST /api/v1/evidence-plans': {
    body: {
      /** Days */ every: number
      /** Of whom, as an expectation says it; absent is everybody */ party?: string
      /** An action, SERVICE.* or *, which is meant where it is absent */ action?: string
      /** kind:id, of which a space is meant with all in it; absent is everything */ resource?: string
      /** Accounts that must sign each off */ sign_off?: string[]
      why: string
    }
    answer: Schemas['EvidencePlan']
  }
  /** Have no more records made; those that were made stay */ 'DELETE /api/v1/evidence-plans/{id}': { path: { id: string }; query?: { why?: string }; answer: undefined }
  /** A record of reach */ 'GET /api/v1/evidence/{id}': { path: { id: string }; answer: Schemas['Evidence'] }
  /** The whole of a record as an archive that can be verified without us */ 'GET /api/v1/evidence/{id}/archive': { path: { id: string }; answer: string }
  /** A record for people, as a page that prints or as PDF */ 'GET /api/v1/evidence/{id}/sheet': { path: { id: string }; query?: { form?: 'html' | 'pdf' }; answer: string }
  /** Whether a record is as it was signed, and as the journal took it in */ 'GET /api/v1/evidence/{id}/verification': { path: { id: string }; answer: Schemas['Verified'] }
  /** What another record says otherwise, line by line */ 'GET /api/v1/evidence/{id}/difference': { path: { id: string }; query: { to: string }; answer: { lines: Schemas['EvidenceDiffers'][] } }
  /** Say that one has looked at a record; the password is asked for again */ 'POST /api/v1/evidence/{id}/sign-off': { path: { id: string }; body: { password: string; note?: string }; answer: Schemas['Evidence'] }
  /** Since when a question is answered as it is, how before, and through which changes */ 'GET /api/v1/history': { query: { who: string; action: string; resource: string; from?: string; to?: string }; answer: Schemas['History'] }
  /** Who could do what with a resource at any time between two moments, with the longest unbroken time of each */ 'GET /api/v1/history/audience': { query: { resource: string; action?: string; party?: string; from?: string; to?: string }; answer: Schemas['ReachedBetween'] }
  /** Exceptions for people and groups */ 'GET /api/v1/exceptions': { query?: { state?: 'ahead' | 'in_force' | 'over'; person?: string }; answer: { exceptions: Schemas['Exception'][] } }
  /** Make an exception */ 'POST /api/v1/exceptions': { body: Schemas['ExceptionChange']; answer: Schemas['Exception'] }
  /** Make or change many exceptions from a list, with a result for every line */ 'POST /api/v1/exceptions/import': { query?: { preview?: boolean; only_good?: boolean; why?: string }; body: string; type: 'text/csv'; answer: Schemas['Imported'] }
  /** An exception */ 'GET /api/v1/exceptions/{id}': { path: { id: string }; answer: Schemas['Exception'] }
  /** Change an exception; fields that are not named stay as they are */ 'PATCH /api/v1/exceptions/{id}': { path: { id: string }; body: Patch<Schemas['ExceptionPatch']>; answer: Schemas['Exception'] }
  /** End an exception now; one that has not begun is taken away */ 'POST /api/v1/exceptions/{id}/end': { path: { id: string }; body: Schemas['WhyOnly']; answer: undefined }
  /** Move the end of an exception further away */ 'POST /api/v1/exceptions/{id}/prolong': { path: { id: string }; body: Schemas['Prolong']; answer: Schemas['Exception'] }
  /** Spaces; a member sees the own ones */ 'GET /api/v1/spaces': { query?: { cursor?: string; limit?: number; q?: string }; answer: { spaces: Schemas['SpaceBrief'][]; next: string } }
  /** A space, what it sets, what is in it, and who reaches it */ 'GET /api/v1/spaces/{id}': { path: { id: string }; answer: Schemas['SpaceView'] }
  /** People of ours */ 'GET /api/v1/people': { query?: { cursor?: string; limit?: number; q?: string }; answer: { people: Schemas['PersonBrief'][]; next: string } }
  /** What each of our people may do with outsiders in chat and mail, and where each value comes from */ 'GET /api/v1/people/matrix': { query?: { cursor?: string; limit?: number; q?: string }; answer: Schemas['PeopleMatrix'] }
  /** A person of ours, the exceptions in force, and who reaches them */ 'GET /api/v1/people/{id}': { path: { id: string }; answer: Schemas['PersonView'] }
  /** Links and whether they work */ 'GET /api/v1/links': { query?: { state?: 'works' | 'dead'; who?: 'bearer' | 'named'; item?: string; q?: string; cursor?: string; limit?: number }; answer: { links: Schemas['Link'][]; next: string } }
  /** Make a link to a file or a folder, for whoever holds it or for those it names; nothing is made where nobody could use it */ 'POST /api/v1/links': { query?: { preview?: boolean }; body: Schemas['LinkAsk']; answer: Schemas['MadeLink'] }
  /** End a link now */ 'POST /api/v1/links/{id}/end': { path: { id: string }; query?: { preview?: boolean }; body: Schemas['WhyOnly']; answer: Schemas['ValueWeighed'] | undefined }
  /** Mail that is forwarded automatically, and whether it may be */ 'GET /api/v1/forwarders': { query?: { person?: string }; answer: { forwarders: Schemas['Forwarder'][] } }
  /** Remove a forwarder */ 'DELETE /api/v1/forwarders/{person}/{address}': { path: { person: string; address: string }; query?: { why?: string }; answer: undefined }
  /** What was noticed and somebody should decide about */ 'GET /api/v1/findings': { query?: { cursor?: string; limit?: number; kind?: string; about?: string; state?: 'open' | 'accepted' | 'all' | 'gone'; soon?: boolean; hints?: boolean }; answer: Schemas['Findings'] }
  /** Let a finding be, with a reason and an end */ 'POST /api/v1/findings/acceptance': { body: Schemas['Acceptance']; answer: undefined }
  /** Take an acceptance back */ 'DELETE /api/v1/findings/acceptance': { query: { id: string; why?: string }; answer: undefined }
  /** Everything that a grant, a bundle, an invitation or a link would open that is not there yet */ 'POST /api/v1/would': { body: Schemas['Supposition']; answer: Schemas['Would'] }
  /** A list of addresses that somebody wants to invite, each with every cause that stands in the way The list is plain text, one address or several on a line, or with a column named CSV (RFC 4180). The answer comes line by line as it is found: one JSON object for each address (CheckLine), the last one is the summary (CheckSummary). */ 'POST /api/v1/check': { query?: { into?: string; bundle?: string; as?: string; column?: string; at?: string }; body: string; type: 'text/csv'; answer: string }
  /** Both halves of every partner, service and direction that either side says something about */ 'GET /api/v1/halves': { query?: { show?: 'all' | 'their_turn' | 'our_turn' | 'unconfirmed' | 'mismatch'; partner?: string }; answer: { halves: Schemas['BothHalves'][] } }
  /** Record what a partner's own side admits or refuses */ 'PUT /api/v1/partners/{id}/stances/{key}': { path: { id: string; key: string }; query?: { preview?: boolean }; body: Schemas['StanceChange']; answer: Schemas['Partner'] }
  /** Take back what was recorded last; letters that it closed are open again */ 'DELETE /api/v1/partners/{id}/stances/{key}': { path: { id: string; key: string }; query?: { why?: string }; answer: Schemas['Partner'] }
  /** A letter to a partner's administrator, in plain words that fit any suite */ 'GET /api/v1/partners/{id}/letter': { path: { id: string }; query?: { form?: 'markdown' | 'html' | 'text'; key?: string[] }; answer: string }
  /** Those at a partner's domains who have a record, a role or a contact */ 'GET /api/v1/partners/{id}/people': { path: { id: string }; query?: { q?: string; cursor?: string; limit?: number }; answer: { people: Schemas['TheirPerson'][]; next: string } }
  /** Which way to connect a partner's people fits, with the figures behind it */ 'GET /api/v1/partners/{id}/advice': { path: { id: string }; answer: Schemas['Advice'] }
  /** How a partner's people are connected for good in a way, what is left to do, and what becomes of those who are guests already */ 'GET /api/v1/partners/{id}/connect': { path: { id: string }; query: { way: string; space?: string[]; role?: string }; answer: Schemas['Connect'] }
  /** Letters to partners' administrators, the open ones first, with their age */ 'GET /api/v1/letters': { query?: { partner?: string; state?: 'open' | 'closed' | 'all' }; answer: { letters: Schemas['Letter'][] } }
  /** Keep a letter to a partner's administrator as sent, about keys, about all that waits for them, or about a refused question */ 'POST /api/v1/letters': { query?: { preview?: boolean }; body: Schemas['NewLetter']; answer: Schemas['Letter'] }
  /** A letter with its text */ 'GET /api/v1/letters/{id}': { path: { id: string }; query?: { form?: 'markdown' | 'html' | 'text' }; answer: Schemas['Letter'] }
  /** Close a letter by hand; a stance that answers it closes it by itself */ 'POST /api/v1/letters/{id}/close': { path: { id: string }; body: { answer: 'admitted' | 'refused' | 'withdrawn'; /** What they said */ said?: string; why?: Schemas['Why'] }; answer: Schemas['Letter'] }
  /** Our own statement as a domain would read it, and the keys that sign it */ 'GET /api/v1/statement': { query?: { for?: string }; answer: Schemas['OurStatement'] }
  /** Announce the next key, switch to it, or replace the key at once */ 'POST /api/v1/statement/keys': { body: { do: 'announce' | 'switch' | 'replace'; why?: Schemas['Why'] }; answer: Schemas['OurStatement'] }
  /** What is known of a partner's statement */ 'GET /api/v1/partners/{id}/statement': { path: { id: string }; answer: Schemas['TheirStatement'] }
  /** Fetch a partner's statement now; what is wrong with it is told and changes nothing */ 'POST /api/v1/partners/{id}/statement': { path: { id: string }; answer: Schemas['TheirStatement'] }
  /** Trust the key that a partner's statement is signed with now */ 'PUT /api/v1/partners/{id}/statement/key': { path: { id: string }; body: { /** Its thumbprint as their administrator confirmed it */ key: string; why?: Schemas['Why'] }; answer: Schemas['TheirStatement'] }
  /** What everybody outside can do, in numbers (granted and wide kept apart) */ 'GET /api/v1/numbers': { query?: { at?: string; soon?: boolean }; answer: Schemas['Numbers'] }
  /** The granted actions behind a number, one line a party and resource */ 'GET /api/v1/numbers/lines': { query?: { at?: string; action?: string; kind?: 'guest' | 'provisioned' | 'federated' | 'personal' | 'bearer'; partner?: string; space?: string; cursor?: string; limit?: number }; answer: Schemas['NumberLines'] }
  /** Whom a value of a rule lets do what; those who would lose something were it the next tighter one everywhere */ 'GET /api/v1/rules/{rule}/audience': { path: { rule: string }; query?: { value?: string; at?: string }; answer: Schemas['RuleAudience'] }
  /** What one party could come to do, or who could come to do something with a resource, without any administrator or keeper */ 'GET /api/v1/could': { query?: { who?: string; resource?: string; action?: string; all?: boolean; cursor?: string; limit?: number }; answer: Schemas['Could'] }
  /** The shortest way to something that could come to be: who would have to do what, and how many could */ 'POST /api/v1/could/way': { body: Schemas['CouldQuestion']; answer: Schemas['CouldWay'] }
  /** What would make something impossible that is or could come to be: sets of limits, openings and roles, each with its impact */ 'POST /api/v1/could/cuts': { body: Schemas['CouldQuestion']; answer: Schemas['CouldCuts'] }
  /** Make a draft of what is policy in a cut */ 'POST /api/v1/could/cuts/draft': { body: Schemas['CouldCutTaken']; answer: Schemas['Draft'] }
  /** What is allowed and nobody uses: limits that could be lower and openings nobody comes through, which taken away change nothing today */ 'GET /api/v1/spare': { answer: Schemas['Spare'] }
  /** Make a draft that takes away what nobody uses */ 'POST /api/v1/spare/draft': { body: Schemas['SpareTaken']; answer: Schemas['Draft'] }
  /** What would make a refused question a yes, in complete and minimal sets of changes, the narrowest first */ 'POST /api/v1/remedies': { body: Schemas['RemedyQuestion']; answer: Schemas['Remedies'] }
  /** Make a draft of what is policy in a set of changes */ 'POST /api/v1/remedies/draft': { body: Schemas['RemedyTaken']; answer: Schemas['Draft'] }
  /** What ends, when, why, and what follows from it, in order */ 'GET /api/v1/due': { query?: { from?: string; until?: string; partner?: string; who?: string; sponsor?: string; cursor?: string; limit?: number }; answer: { steps: Schemas['DueStep'][]; total: number; kinds: { [key: string]: number }; next: string; /** Said where steps that were due are not carried out yet: how many, and up to when all are; absent for members */ behind?: string } }
  /** What is due, counted by day */ 'GET /api/v1/due/days': { query?: { from?: string; until?: string; partner?: string; sponsor?: string }; answer: Schemas['DueDays'] }
  /** How the dates of a guest move if something were done */ 'POST /api/v1/due/supposing': { body: Schemas['DueSupposing']; answer: Schemas['DueSupposed'] }
  /** Which dates wait, what they would set going if they counted, and what is held */ 'GET /api/v1/dates': { query?: { from?: string }; answer: Schemas['Dates'] }
  /** Let dates count that wait, for all or for a part */ 'POST /api/v1/dates/release': { query?: { preview?: boolean }; body: Schemas['DatesRelease']; answer: Schemas['DatesReleased'] }
  /** Let go what is held because it is more than may happen in a day */ 'POST /api/v1/dates/lift': { body: { why: Schemas['Why'] }; answer: Schemas['DatesHeld'] }
  /** Rewrite a record that cannot be read without the characters that no text may hold */ 'POST /api/v1/records/mend': { body: { kind: string; id: string; why?: Schemas['Why'] }; answer: undefined }
  /** Records of guests, in the order of their addresses; of members those they answer for */ 'GET /api/v1/guests': { query?: { q?: string; partner?: string; sponsor?: string; state?: string; origin?: string; space?: string; ending?: string; needs?: string; sort?: string; cursor?: string; limit?: number }; answer: { guests: Schemas['GuestShort'][]; total: number; next: string } }
  /** Change records of guests, one or many; those that cannot be changed are told with the reason */ 'POST /api/v1/guests/changes': { query?: { preview?: boolean }; body: Schemas['GuestChange']; answer: { guests: Schemas['GuestChanged'][] } }
  /** Make one record of two addresses of one person */ 'POST /api/v1/guests/merge': { query?: { preview?: boolean }; body: Schemas['GuestMerge']; answer: Schemas['GuestMerged'] }
  /** A record with its grants and what becomes of it */ 'GET /api/v1/guests/{address}': { path: { address: string }; answer: Schemas['Guest'] }
  /** Invite a list of addresses; each gets an outcome of its own */ 'POST /api/v1/invitations': { query?: { preview?: boolean }; body: Schemas['Invitation']; answer: Schemas['Invited'] }
  /** A person of ours leaves; their guests are offered to a successor */ 'POST /api/v1/people/{id}/leaving': { path: { id: string }; query?: { preview?: boolean }; body: Schemas['Leaving']; answer: Schemas['Offer'] }
  /** Guests that are offered to somebody who takes over */ 'GET /api/v1/offers': { answer: { offers: Schemas['Offer'][] } }
  /** Take over the guests of an offer, or decline */ 'POST /api/v1/offers/{id}/answer': { path: { id: string }; body: Schemas['OfferAnswer']; answer: Schemas['Offer'] }
  /** Guests who ask for more time */ 'GET /api/v1/wishes': { answer: { wishes: Schemas['Wish'][] } }
  /** Give a guest more time, or say why not */ 'POST /api/v1/wishes/{address}/answer': { path: { address: string }; body: Schemas['WishAnswer']; answer: Schemas['Wish'] }
  /** Mail, the newest first */ 'GET /api/v1/outbox': { query?: { recipient?: string; state?: string; before?: number; limit?: number }; answer: { messages: Schemas['OutboxMessage'][] } }
  /** Try a message again at once */ 'POST /api/v1/outbox/{id}/again': { path: { id: number }; answer: undefined }
  /** Which lists there are to take in and out, with their columns */ 'GET /api/v1/lists': { answer: { lists: Schemas['ListKind'][] } }
  /** Guests, grants, links, spaces or people as CSV (RFC 4180), or guests as a SCIM list response (RFC 7644 §3.4.2) */ 'GET /api/v1/lists/{what}': { path: { what: 'guests' | 'grants' | 'holdings' | 'links' | 'spaces' | 'people' }; query?: { format?: 'csv' | 'scim' }; answer: string }
  /** Take in a list; what is wrong is told line by line, and nothing is taken in */ 'POST /api/v1/lists/{what}': { path: { what: 'guests' | 'grants' | 'holdings' | 'links' | 'spaces' | 'people' }; query?: { preview?: boolean; map?: string; why?: string }; body: string; type: 'text/csv'; answer: Schemas['ListTaken'] }
  /** Make, change, close and remove people, groups, spaces, items, meetings, roles, links, forwarders and contacts; weighed first, all or none */ 'POST /api/v1/places': { query?: { preview?: boolean }; body: Schemas['PlacesChange']; answer: Schemas['PlacesChanged'] }
  /** Whether the installation has its first administrator */ 'GET /api/v1/begin': { answer: { begun: boolean } }
  /** Make the first administrator, for whoever holds the key that wexillum start printed */ 'POST /api/v1/begin': { body: Schemas['FirstAdministrator']; answer: undefined }
  /** How far the installation has been set up */ 'GET /api/v1/start': { answer: Schemas['Started'] }
  /** Where an organisation may stand towards outsiders to begin with, and what each would change */ 'GET /api/v1/postures': { answer: { postures: Schemas['Posture'][] } }
  /** Make a draft that takes the organisation to a posture */ 'POST /api/v1/postures/{name}/draft': { path: { name: string }; answer: { id: string } }
  /** The versions of the terms of use that guests accept, the newest first, and how many accepted which */ 'GET /api/v1/settings/terms': { answer: { versions: Schemas['TermsVersion'][] } }
  /** What the policy says of the organisation and of the service itself */ 'GET /api/v1/settings': { answer: Schemas['AllSettings'] }
  /** Change the settings that are named; the others stay as they are */ 'PATCH /api/v1/settings': { body: Patch<Schemas['SettingsPatch']>; answer: Schemas['AllSettings'] }
  /** Ready-made kinds of space, with the values that they set */ 'GET /api/v1/patterns': { answer: { patterns: Schemas['Pattern'][] } }
  /** Entries of one kind with the fields of the file format, in the order of their ids; a member sees the own ones */ 'GET /api/v1/places/{kind}': { path: { kind: Schemas['PlaceKind'] }; query?: { cursor?: string; limit?: number; q?: string; id?: string }; answer: { entries: Schemas['PlaceEntry'][]; next: string } }
  /** Take a change of people, groups, spaces, items, meetings, roles, links, forwarders and contacts back, where nothing else stands on it */ 'POST /api/v1/journal/{seq}/undo': { path: { seq: number }; query?: { preview?: boolean }; body: Schemas['WhyOnly']; answer: Schemas['PlacesChanged'] }
  /** Whose door it is, and in which languages it speaks */ 'GET /api/v1/door': { answer: { organisation: string; languages: string[] } }
  /** What the link of an invitation is about; it is not spent */ 'POST /api/v1/door/open': { body: Schemas['DoorKey']; answer: Schemas['DoorInvitation'] }
  /** Mail a one-time code; the answer is the same for addresses that nobody knows */ 'POST /api/v1/door/code': { body: Schemas['DoorAsk']; answer: undefined }
  /** Sign in with a one-time code */ 'POST /api/v1/door/prove': { body: Schemas['DoorProof']; answer: Schemas['Session'] | Schemas['DoorStep'] }
  /** Answer what signing up asks, or without answers be told what it asks, with an address that this browser proved in the last half hour */ 'POST /api/v1/door/sign-up': { body: Schemas['DoorAnswers']; answer: Schemas['Session'] | Schemas['DoorStep'] }
  /** See which bundles an address that this browser proved in the last half hour may ask for, ask for one, or take back what was asked for */ 'POST /api/v1/door/bundles': { body: Schemas['BundleAsk']; answer: Schemas['Askable'] }
  /** See which bundles one may ask for or holds, ask for one or for more time, or take back what was asked for */ 'POST /api/v1/own/bundles': { body: Schemas['BundleAsk']; answer: Schemas['Askable'] }
  /** Sign in with the partner's own sign-in (OpenID Connect) */ 'POST /api/v1/door/partner': { body: Schemas['DoorAsk']; answer: { go: string; name: string } }
  /** Prove once more that it is oneself, which the gravest acts ask for */ 'POST /api/v1/session/again': { body: { password: string; /** A one-time code or a recovery code */ code?: string }; answer: Schemas['Session'] }
  /** One's own passkeys */ 'GET /api/v1/account/passkeys': { answer: { passkeys: Schemas['Passkey'][] } }
  /** Begin to add a passkey of one's own */ 'POST /api/v1/account/passkeys': { answer: { options: { [key: string]: unknown } } }
  /** Add the passkey that the browser answers with */ 'POST /api/v1/account/passkeys/finish': { body: { /** What one calls it, as the device that holds it */ name: string; credential: { [key: string]: unknown } }; answer: undefined }
  /** Take one of one's own passkeys away */ 'DELETE /api/v1/account/passkeys/{id}': { path: { id: string }; answer: undefined }
  /** How people of ours sign in with the organisation's own sign-in */ 'GET /api/v1/house-sign-in': { answer: Schemas['House'] }
  /** Let people of ours sign in with the organisation's own sign-in (OpenID Connect), with roles by what it says of them */ 'PUT /api/v1/house-sign-in': { body: Schemas['HouseSet']; answer: Schemas['House'] }
  /** Let nobody sign in by it any more; whoever did is signed out */ 'DELETE /api/v1/house-sign-in': { query?: { why?: string }; answer: undefined }
  /** Ask the organisation's own sign-in what it says of itself */ 'POST /api/v1/house-sign-in/test': { body: { issuer: string }; answer: { well: boolean; problem?: string; /** Where people are led to */ authorize?: string; /** Where it leads back to, which is to be entered there (redirect URI) */ back?: string } }
  /** Begin to sign in by a passkey */ 'POST /api/v1/door/passkey': { answer: { options: { [key: string]: unknown } } }
  /** Sign in by the passkey that the browser answers with, to the console or as a guest */ 'POST /api/v1/door/passkey/proof': { body: { credential: { [key: string]: unknown }; language?: string }; answer: Schemas['Session'] }
  /** Whether people of ours sign in with the organisation's own sign-in */ 'GET /api/v1/door/house': { answer: { on: boolean; /** Of the organisation */ name?: string } }
  /** Begin to sign in with the organisation's own sign-in */ 'POST /api/v1/door/house': { body: { /** It is to be proved anew */ again?: boolean }; answer: { go: string } }
  /** Where the organisation's own sign-in leads back to */ 'GET /api/v1/door/house/back': { query?: { code?: string; state?: string; iss?: string; error?: string }; answer: undefined }
  /** Where a partner's own sign-in leads back to */ 'GET /api/v1/door/back': { query?: { code?: string; state?: string; error?: string }; answer: undefined }
  /** A guest's own page */ 'GET /api/v1/own': { answer: Schemas['Own'] }
  /** Accept the invitation and the terms */ 'POST /api/v1/own/accept': { body: Schemas['OwnAccept']; answer: undefined }
  /** Ask the sponsor for more time */ 'POST /api/v1/own/more': { body: Schemas['OwnMore']; answer: Schemas['Wish'] }
  /** The language of mail and pages */ 'POST /api/v1/own/language': { body: Schemas['OwnLanguage']; answer: undefined }
  /** Remove the own record */ 'POST /api/v1/own/leave': { answer: undefined }
  /** Refused questions that people of ours sent to whoever can change them, the newest first */ 'GET /api/v1/requests': { query?: { over?: boolean }; answer: { requests: Schemas['Request'][] } }
  /** Send a refused question, or a change that is not theirs to make, with its purpose to whoever can change it */ 'POST /api/v1/requests': { body: Schemas['NewRequest']; answer: Schemas['Request'] }
  /** A request */ 'GET /api/v1/requests/{id}': { path: { id: string }; answer: Schemas['Request'] }
  /** Answer a request, or say no with a reason */ 'POST /api/v1/requests/{id}/answer': { path: { id: string }; body: { text: string; refuse?: boolean }; answer: Schemas['Request'] }
  /** Make a draft of what would make it a yes, the narrowest where no set is named */ 'POST /api/v1/requests/{id}/draft': { path: { id: string }; body: { option?: string }; answer: Schemas['Draft'] }
  /** Make the changes that a request asks for; weighed first, and the asker hears of it */ 'POST /api/v1/requests/{id}/do': { path: { id: string }; query?: { preview?: boolean }; body: Schemas['RequestDo']; answer: Schemas['PlacesChanged'] }
  /** Take back what one asked for */ 'POST /api/v1/requests/{id}/withdraw': { path: { id: string }; answer: Schemas['Request'] }
  /** Ask somebody else to approve a bundle that is asked for */ 'POST /api/v1/requests/{id}/hand-over': { path: { id: string }; body: { /** A person of ours */ to: string }; answer: Schemas['Request'] }
  /** What a partner told of its people by Security Event Tokens (pushed to /events), the newest first */ 'GET /api/v1/partners/{id}/told': { path: { id: string }; query?: { before?: number; limit?: number }; answer: { /** Where they push them */ url: string; events: Schemas['ToldEvent'][]; next?: number } }
  /** People feeds of partners, which keep their people in our directory (SCIM 2.0, at /scim/v2) */ 'GET /api/v1/feeds': { answer: { feeds: Schemas['Feed'][] } }
  /** Let a partner's feed speak to us, watched at first, and make its token, which is told once */ 'POST /api/v1/feeds': { body: Schemas['FeedBegin']; answer: Schemas['FeedToken'] }
  /** A feed, with how many it keeps and how it goes */ 'GET /api/v1/feeds/{partner}': { path: { partner: string }; answer: Schemas['Feed'] }
  /** End a feed; whom it alone kept become guests like others, or their accounts count as closed */ 'DELETE /api/v1/feeds/{partner}': { path: { partner: string }; query?: { why?: string; closed?: boolean }; answer: undefined }
  /** Change a feed, or let it on */ 'PATCH /api/v1/feeds/{partner}': { path: { partner: string }; body: Patch<Schemas['FeedChange']>; answer: Schemas['Feed'] }
  /** Make a new token for a feed, which is told once; the one before works no longer */ 'POST /api/v1/feeds/{partner}/token': { path: { partner: string }; body: { why?: Schemas['Why'] }; answer: Schemas['FeedToken'] }
  /** Let a feed close as many accounts again as it may in a day */ 'POST /api/v1/feeds/{partner}/release': { path: { partner: string }; body: { why: Schemas['Why'] }; answer: Schemas['Feed'] }
  /** Bring what a watched feed told of to records, a few first or all */ 'POST /api/v1/feeds/{partner}/apply': { path: { partner: string }; body: { /** How many at most; without it all */ most?: number; why: Schemas['Why'] }; answer: Schemas['FeedApplied'] }
  /** Whom a feed tells of, each with what bringing them to the record does */ 'GET /api/v1/feeds/{partner}/people': { path: { partner: string }; query?: { waiting?: boolean; after?: number; limit?: number }; answer: { people: Schemas['FeedPerson'][]; next?: number } }
  /** What came of a feed's requests, the newest first */ 'GET /api/v1/feeds/{partner}/log': { path: { partner: string }; query?: { wrong?: boolean; user?: string; before?: number; limit?: number }; answer: { lines: Schemas['FeedLine'][]; next?: number } }
  /** Who seems to be here twice, once by the feed and once as a guest under another address */ 'GET /api/v1/feeds/{partner}/twins': { path: { partner: string }; answer: { twins: Schemas['FeedTwin'][] } }
  /** People feeds that go out, which keep people of ours in directories of partners (SCIM 2.0) */ 'GET /api/v1/feeds-out': { answer: { feeds: Schemas['FeedOut'][] } }
  /** Begin to keep people of ours at a partner, held at first so that nothing is sent but by hand */ 'POST /api/v1/feeds-out': { body: Schemas['FeedOutBegin']; answer: Schemas['FeedOut'] }
  /** A feed that goes out, with how many it keeps there and how it goes */ 'GET /api/v1/feeds-out/{partner}': { path: { partner: string }; answer: Schemas['FeedOut'] }
  /** End a feed that goes out; whom it kept stays there as they are */ 'DELETE /api/v1/feeds-out/{partner}': { path: { partner: string }; query?: { why?: string }; answer: undefined }
  /** Change a feed that goes out, or let it on */ 'PATCH /api/v1/feeds-out/{partner}': { path: { partner: string }; body: Patch<Schemas['FeedOutChange']>; answer: Schemas['FeedOut'] }
  /** Try the connection to a partner's server, and see whom it keeps of ours; nothing is changed there */ 'POST /api/v1/feeds-out/{partner}/look': { path: { partner: string }; answer: Schemas['FeedLook'] }
  /** What sending a feed would do about each person; whoever is new is looked up there */ 'GET /api/v1/feeds-out/{partner}/people': { path: { partner: string }; query?: { all?: boolean; after?: string; limit?: number }; answer: { people: Schemas['FeedOutPerson'][]; /** How many by what would be done, of all */ counts: { [key: string]: number }; /** Why it is not known who is there already */ unsure?: string; next?: string } }
  /** Send what is due now, a few first, all, or one person */ 'POST /api/v1/feeds-out/{partner}/send': { path: { partner: string }; body: { /** About how many people at most; without it all */ most?: number; /** This person alone */ person?: string; why: Schemas['Why'] }; answer: Schemas['FeedSent'] }
  /** Let a feed that goes out close as many accounts again as it may in a day */ 'POST /api/v1/feeds-out/{partner}/release': { path: { partner: string }; body: { why: Schemas['Why'] }; answer: Schemas['FeedOut'] }
  /** What was sent and what came of it, the newest first */ 'GET /api/v1/feeds-out/{partner}/log': { path: { partner: string }; query?: { wrong?: boolean; person?: string; before?: number; limit?: number }; answer: { lines: Schemas['FeedLine'][]; next?: number } }
  /** Who is away or will be, and who decides for them; of members what concerns them */ 'GET /api/v1/absences': { answer: { absences: Schemas['Absence'][] } }
  /** Say that somebody is away, and who decides for them; what was said before is replaced */ 'POST /api/v1/absences': { query?: { preview?: boolean }; body: Schemas['AbsenceSet']; answer: Schemas['Absence'] }
  /** Say that somebody is back */ 'DELETE /api/v1/absences/{person}': { path: { person: string }; query?: { why?: string }; answer: undefined }
  /** Say that the asker has seen what became of it */ 'POST /api/v1/requests/{id}/heard': { path: { id: string }; answer: Schemas['Request'] }
  /** Drafts of policy, the newest first */ 'GET /api/v1/drafts': { query?: { over?: boolean }; answer: { drafts: Schemas['DraftBrief'][] } }
  /** Make a draft on the policy in force. Changes of policy that are sent with the header Wexillum-Draft become edits of it, and questions are answered as it would make them */ 'POST /api/v1/drafts': { body: { name?: string; /** A single change, named after what it changes */ quick?: boolean }; answer: Schemas['Draft'] }
  /** A draft, its edits, and how it stands against the policy in force */ 'GET /api/v1/drafts/{id}': { path: { id: string }; answer: Schemas['Draft'] }
  /** Give a draft up */ 'POST /api/v1/drafts/{id}/drop': { path: { id: string }; body: Schemas['WhyOnly']; answer: undefined }
  /** Make a draft of a change that is only looked at */ 'POST /api/v1/drafts/{id}/keep': { path: { id: string }; body: Schemas['WhyOnly']; answer: Schemas['Draft'] }
  /** Open a draft again that was given up */ 'POST /api/v1/drafts/{id}/restore': { path: { id: string }; body: Schemas['WhyOnly']; answer: Schemas['Draft'] }
  /** Take an edit out of a draft, or all of them */ 'POST /api/v1/drafts/{id}/undo': { path: { id: string }; body: { kind?: string; id?: string; why?: Schemas['Why'] }; answer: Schemas['Draft'] }
  /** Decide about an edit of something that was changed otherwise meanwhile */ 'POST /api/v1/drafts/{id}/settle': { path: { id: string }; body: { kind: string; id: string; keep: 'draft' | 'live'; why?: Schemas['Why'] }; answer: Schemas['Draft'] }
  /** Who would gain and who would lose what; with progress as one object a line */ 'GET /api/v1/drafts/{id}/impact': { path: { id: string }; query?: { at?: string; progress?: boolean }; answer: Schemas['Impact'] }
  /** Every line of an impact as CSV */ 'GET /api/v1/drafts/{id}/impact/lines': { path: { id: string }; query?: { at?: string }; answer: string }
  /** Publish a draft exactly as it was weighed, at once or at a moment; where somebody else must confirm, it waits for them */ 'POST /api/v1/drafts/{id}/publish': { path: { id: string }; body: { why: Schemas['Why']; /** That of the impact */ digest: string; /** A moment that lies ahead */ at?: string; /** Why it is published although it breaks what is expected */ despite?: string }; answer: Schemas['Draft'] }
  /** Confirm what somebody else asked to publish */ 'POST /api/v1/drafts/{id}/confirm': { path: { id: string }; body: { digest: string }; answer: Schemas['Draft'] }
  /** Open a draft again that waits or is set to publish */ 'POST /api/v1/drafts/{id}/withdraw': { path: { id: string }; body: Schemas['WhyOnly']; answer: Schemas['Draft'] }
  /** Revisions of policy, the newest first */ 'GET /api/v1/revisions': { query?: { cursor?: string; limit?: number }; answer: { revisions: Schemas['Revision'][]; next: string } }
  /** A revision and what it changed */ 'GET /api/v1/revisions/{number}': { path: { number: number }; query?: { against?: number }; answer: Schemas['RevisionView'] }
  /** Make a draft that goes back to a revision and says what it would undo */ 'POST /api/v1/revisions/{number}/back': { path: { number: number }; body: Schemas['WhyOnly']; answer: Schemas['Draft'] }
  /** Policy and inventory as a file */ 'GET /api/v1/world': { query?: { section?: string[]; policy?: boolean }; answer: string }
  /** Load a file, all or nothing */ 'POST /api/v1/world': { query?: { preview?: boolean; why?: string; file?: string; confirm?: boolean; restore?: boolean; older?: boolean; exact?: boolean }; body: string; type: 'application/yaml'; answer: Schemas['Loaded'] }
  /** What would have to change so that policy is what a file says */ 'POST /api/v1/world/differs': { query?: { file?: string }; body: string; type: 'application/yaml'; answer: Schemas['Differing'] }
  /** Who changed what, the newest first */ 'GET /api/v1/journal': { query?: { cursor?: string; limit?: number; kind?: string; id?: string; about?: string; who?: string }; answer: { entries: Schemas['JournalEntry'][]; next: string; /** The kinds of entry that there are */ kinds: string[] } }
  /** Whether the journal was altered, and whether it still has a seal that somebody kept */ 'GET /api/v1/journal/verification': { query?: { seq?: number; seal?: string }; answer: { /** The journal has the kept seal at that entry; absent where none was sent */ kept?: boolean; whole: boolean; entries: number; broken_at?: number; reason?: string } }
  /** The seal of the journal's last entry, signed, to be kept elsewhere */ 'GET /api/v1/journal/seal': { answer: { seal: string } }
  /** A stream of server-sent events: one for every change, or, with topic, what happened, each with an id from which a later stream goes on */ 'GET /api/v1/changes': { query?: { topic?: Schemas['EventTopic'][] }; answer: string }
  /** Where the documentation says something, the best places first */ 'GET /api/v1/help': { query?: { q?: string }; answer: Schemas['HelpFound'] }
  /** One page of the documentation */ 'GET /api/v1/help/page': { query: { name: string }; answer: Schemas['HelpPage'] }
  /** Receivers that are told of what happens, and how far each was told */ 'GET /api/v1/webhooks': { answer: Schemas['Webhooks'] }
  /** Have a receiver told of what happens from now on, by signed tokens (RFC 8417) that are pushed (RFC 8935) */ 'POST /api/v1/webhooks': { body: Schemas['NewWebhook']; answer: Schemas['Webhook'] }
  /** Tell a receiver nothing any more */ 'DELETE /api/v1/webhooks/{id}': { path: { id: string }; query?: { why?: string }; answer: undefined }
  /** Change a receiver, or pause it; fields that are not named stay as they are, and what it was not told yet it is told */ 'PATCH /api/v1/webhooks/{id}': { path: { id: string }; body: Patch<Schemas['WebhookChange']>; answer: Schemas['Webhook'] }
  /** Send a receiver an event that verifies it, and wait for what it says */ 'POST /api/v1/webhooks/{id}/try': { path: { id: string }; answer: undefined }
  /** AuthZEN access evaluation */ 'POST /access/v1/evaluation': { body: Schemas['AuthzenRequest']; answer: Schemas['AuthzenDecision'] }
  /** AuthZEN access evaluations */ 'POST /access/v1/evaluations': { body: Schemas['AuthzenBatch']; answer: Schemas['AuthzenDecisions'] }
  /** AuthZEN search for subjects */ 'POST /access/v1/search/subject': { body: Schemas['AuthzenSearch']; answer: Schemas['AuthzenResults'] }
  /** AuthZEN search for resources */ 'POST /access/v1/search/resource': { body: Schemas['AuthzenSearch']; answer: Schemas['AuthzenResults'] }
  /** AuthZEN search for actions */ 'POST /access/v1/search/action': { body: Schemas['AuthzenSearch']; answer: Schemas['AuthzenResults'] }
  /** What our side admits and refuses of the people of a domain, signed (docs/statements.md) */ 'GET /.well-known/wexillum-statement': { query: { for: string }; answer: string }
  /** How far our journal has come, and its seal, signed: whoever keeps it finds out a journal that is written anew */ 'GET /.well-known/wexillum-seal': { answer: string }
  /** The keys that sign our statements */ 'GET /.well-known/wexillum-keys': { answer: string }
  /** AuthZEN metadata */ 'GET /.well-known/authzen-configuration': { answer: Record<string, never> }
  /** This document */ 'GET /api/v1/openapi.yaml': { answer: string }
  /** Figures for monitoring, in the text format of Prometheus */ 'GET /metrics': { answer: string }
  /** Whether the process answers */ 'GET /healthz': { answer: string }
  /** Whether reading, writing and following other services work */ 'GET /readyz': { answer: string }
  /** Whether questions are answered, which they are while the database is away */ 'GET /readyz/decisions': { answer: string }
  /** The systems that carry our services, and where each differs from what is meant */ 'GET /api/v1/systems': { answer: { systems: Schemas['SystemView'][]; /** Services that no system was read for */ not_looked_at: string[] } }
  /** Add a system that is reached; it is looked at, and nothing is written there */ 'POST /api/v1/systems': { query?: { preview?: boolean }; body: Schemas['NewSystem']; answer: Schemas['SystemView'] }
  /** The kinds of system that there are connectors for, and how well each can hold our rules */ 'GET /api/v1/dialects': { answer: { dialects: Schemas['Dialect'][] } }
  /** A system, setting by setting, meant and found */ 'GET /api/v1/systems/{id}': { path: { id: string }; answer: Schemas['SystemView'] }
  /** Take a system away; what it holds stays as it is there */ 'DELETE /api/v1/systems/{id}': { path: { id: string }; query?: { why?: string }; answer: undefined }
  /** Change a system, or what is done to it; to carry it, the digest of the steps that were shown is sent */ 'PATCH /api/v1/systems/{id}': { path: { id: string }; body: Patch<Schemas['SystemChange']>; answer: Schemas['SystemView'] }
  /** Read a system now and compare */ 'POST /api/v1/systems/{id}/read': { path: { id: string }; answer: Schemas['SystemView'] }
  /** Make a draft of what a system holds otherwise than meant, and say what of it is no policy */ 'POST /api/v1/systems/{id}/take-over': { path: { id: string }; body: { /** Only this one */ setting?: string }; answer: { draft: string; /** What could not be taken over */ left: string[] } }
  /** Trials that were made, the newest first */ 'GET /api/v1/trials': { query?: { limit?: number }; answer: { trials: Schemas['Trial'][] } }
  /** Attempt what a question is about at the system that carries it, from outside, and hold that against what was found */ 'POST /api/v1/trials': { body: Schemas['Question']; answer: Schemas['Trial'] }
  /** Try from outside everything that can be tried at a system, once for each typical newcomer */ 'POST /api/v1/systems/{id}/try': { path: { id: string }; body: { /** Only what concerns this one */ partner?: string; /** Make a record of reach at the end */ record?: boolean }; answer: Schemas['Trials'] }
  /** Put back what was changed in a system, accept it until a day, or have what failed or differs sent again */ 'POST /api/v1/systems/{id}/settings/{path}': { path: { id: string; path: string }; body: { do: 'put_back' | 'accept' | 'again'; /** With accept: a moment, or a day as 2026-12-31 */ until?: string; why: string }; answer: Schemas['SystemView'] }
  /** What a system keeps of one kind of our inventory, meant and found */ 'GET /api/v1/systems/{id}/records': { path: { id: string }; query: { kind: string; state?: 'unknown' | 'open' | 'differs' | 'drift' | 'confirmed' | 'waiting' | 'sent' | 'settling' | 'failed'; q?: string; cursor?: string; limit?: number }; answer: { records: Schemas['SystemRecord'][]; next?: string } }
  /** Take over, end, put back, take in or let be what a system keeps otherwise than meant; or let go what waits */ 'POST /api/v1/systems/{id}/records': { path: { id: string }; query?: { preview?: boolean }; body: Schemas['RecordDecision']; answer: Schemas['RecordsDecided'] }
}
