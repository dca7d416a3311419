// Made from the table of methods by UPDATE=1 go test ./internal/desk.

export interface About {
  edition: number;
  handle: string;
  machine: string;
  service: string;
  version: string;
}

export interface Adopted {
  differ: Asset[];
  lacking: Asset[];
  new: Asset[];
  odd: Refusal[];
  taken_over: number;
}

export interface AnswerAsk {
  give: boolean;
  path: string;
  to?: string;
  until?: string;
  word?: string;
  workspace: string;
}

export interface Ask {
  answer?: string;
  answered?: string;
  at: string;
  person: string;
  reason: string;
  unanswered?: boolean;
  until?: string;
  word?: string;
}

export interface AskToLetGo {
  path: string;
  reason: string;
  workspace: string;
}

export interface Asset {
  at?: string;
  author?: string;
  changed?: string;
  content?: string;
  digest?: string;
  executable?: boolean;
  gone?: boolean;
  handoff?: number;
  heads_up?: HeadsUp[];
  holder?: string;
  id?: number;
  lock?: Lock;
  moved_from?: string;
  moved_to?: string;
  newest: number;
  note?: string;
  path: string;
  sending_percent?: number;
  size: number;
  state?: string;
  version?: number;
  waiting?: Waiter[];
}

export interface AssetHistory {
  asset: Asset;
  total: number;
  versions: Version[];
}

export interface Begin {
  any?: boolean;
  bring?: boolean;
  note?: string;
  open?: boolean;
  paths?: string[];
  set?: boolean;
  work?: string;
  workspace: string;
}

export interface Begun {
  brought: Asset[];
  heads_up: HeadsUp[];
  locks: Lock[];
  opened: string[];
  refusals: Refusal[];
}

export interface Canceled {
  handoffs: Handoff[];
}

export interface Change {
  after?: string;
  before?: string;
  change: string;
  distance?: number;
  name: string;
  what: string;
}

export interface Changed {
  assets: Asset[];
  at: number;
  auto_update: boolean;
  away: string[];
  branch: string;
  code: number;
  fetched: string;
  folder: string;
  follows?: number;
  ignored?: LeftOut[];
  kits_behind?: KitUse[];
  known: boolean;
  left_out: number;
  newest: number;
  odd: Refusal[];
  online: boolean;
  pinned?: boolean;
  project: string;
  rules?: string;
  same: number;
  scope: string[];
  sending?: UnderWay[];
  service: string;
  trouble?: string;
  uncovered: Asset[];
  workspace: string;
}

export interface Compared {
  comparison: Comparison;
  path: string;
  version: number;
}

export interface Comparison {
  after: Report;
  before: Report;
  changes: Change[];
  changes_left?: number;
  facts: Pair[];
  files: string[];
  frame?: number[];
  kind: string;
  measures: Fact[];
  rows?: Row[];
  rows_left?: number;
  same?: boolean;
  strip?: Strip;
  table?: Matched;
}

export interface DeletedProject {
  by: string;
  deleted: string;
  goes: string;
  key: string;
  role: string;
  stored: number;
}

export interface Discarded {
  brought: Asset[];
  put_away: PutAway[];
  refusals: Refusal[];
}

export interface Elsewhere {
  address: string;
  code: string;
  every: number;
  secret: string;
}

export interface Extent {
  at: number[];
  name: string;
}

export interface Fact {
  name: string;
  value: string;
}

export interface Folders {
  files: number;
  folder: string;
  folders: string[];
  up: string;
  workspace?: string;
}

export interface Follow {
  workspace: string;
}

export interface Handoff {
  assets: HandoffAsset[];
  at: string;
  author: string;
  branch: string;
  commit?: string;
  count: number;
  digest: string;
  milestones?: string[];
  note: string;
  number: number;
  parents: number[];
  root: string;
  size: number;
  stage?: string;
  tasks: string[];
}

export interface HandoffAsset {
  before: number;
  change: string;
  content?: string;
  digest?: string;
  moved_from?: string;
  now?: string;
  path: string;
  size: number;
  size_before?: number;
  version: number;
}

export interface HeadsUp {
  handle: string;
  path: string;
  since: string;
  size: number;
  state: string;
  workspace: string;
  workspace_id: string;
}

export interface In {
  workspace: string;
}

export interface InFolder {
  folder: string;
}

export interface Include {
  paths?: string[];
  reason?: string;
  workspace: string;
}

export interface Included {
  already: string[];
  asked: string[];
  included: string[];
}

export interface InvitationLink {
  link: string;
}

export interface Invited {
  by: string;
  over?: string;
  project: string;
  role: string;
  until: string;
}

export interface Join {
  branch?: string;
  folder: string;
  here?: boolean;
  project: string;
  scope?: string[];
  work?: string;
}

export interface Joined {
  adopted?: Adopted;
  brought: number;
  refusals: Refusal[];
  workspace: string;
}

export interface Kept {
  put_away: PutAway[];
}

export interface KitUse {
  assets: number;
  changed: string[];
  dir: string;
  kit: string;
  newest?: number;
  release: number;
  stay?: boolean;
}

export interface LeftBy {
  by: Origin;
  files: number;
}

export interface LeftOut {
  by: Origin;
  path: string;
  size?: number;
  state: string;
}

export interface LeftOutList {
  left_out: LeftOut[];
}

export interface Lock {
  asks?: Ask[];
  diverged?: number;
  fence: number;
  forgotten?: boolean;
  heard?: string;
  holder: string;
  note: string;
  path: string;
  since: string;
  unsent?: boolean;
  version?: number;
  waitlist: Waiter[];
  workspace: string;
  workspace_id: string;
}

export interface Locked {
  heads_up: HeadsUp[];
  locks: Lock[];
  refusals: Refusal[];
  waiting: Waiting[];
}

export interface Matched {
  heads: string[];
  left?: number;
  rows: MatchedRow[];
}

export interface MatchedRow {
  cells: string[];
  change?: string;
  was?: Record<string, string>;
}

export interface Noticed {
  at: string;
  handoff?: number;
  kind: string;
  message: string;
  news?: string;
  paths?: string[];
  person?: string;
  workspace: string;
  yours?: boolean;
}

export interface Of {
  paths?: string[];
  workspace: string;
}

export interface One {
  path: string;
  workspace: string;
}

export interface Open {
  anyway?: boolean;
  path: string;
  workspace: string;
}

export interface Origin {
  in: string;
  line?: number;
  pattern?: string;
}

export interface Pair {
  after: string;
  before: string;
  changed?: boolean;
  name: string;
}

export interface Preview {
  code: number;
  files: number;
  hidden: LeftOut[];
  largest: Asset[];
  left_out: number;
  left_out_by: LeftBy[];
  odd: Refusal[];
  presets: string[];
  rules?: string;
  size: number;
  uncovered: Asset[];
}

export interface Progress {
  done: number;
  title: string;
  total: number;
  work: string;
}

export interface Project {
  archived?: string;
  assets: number;
  handoffs: number;
  key: string;
  latest?: string;
  locks: number;
  members: number;
  news?: string;
  role: string;
  size: number;
  storage_limit?: number;
  stored: number;
  task_links?: TaskLink[];
}

export interface Projects {
  deleted: DeletedProject[];
  projects: Project[];
}

export interface PutAway {
  at: string;
  executable?: boolean;
  id: string;
  path: string;
  size: number;
  version: number;
}

export interface Reference {
  from: string;
  to: string;
}

export interface Refusal {
  message: string;
  path: string;
  reason: string;
  remedy: string;
}

export interface Refusals {
  refusals: Refusal[];
}

export interface Report {
  bounds?: number[];
  facts: Fact[];
  files: string[];
  format?: string;
  frame?: number[];
  height?: number;
  kind: string;
  nets?: Extent[];
  normal?: boolean;
  pages?: number;
  parts?: Extent[];
  print?: string;
  seconds?: number;
  table?: Table;
  trouble?: string;
  width?: number;
}

export interface Restore {
  names: string[];
  workspace: string;
}

export interface Restored {
  restored: PutAway[];
}

export interface Row {
  after?: number;
  before?: number;
  kind: string;
  marks?: number[];
  old?: string;
  old_marks?: number[];
  text: string;
}

export interface Scope {
  scope: string[];
}

export interface Send {
  keep_locks?: boolean;
  note: string;
  older?: boolean;
  paths?: string[];
  set?: boolean;
  stage?: string;
  tasks: string[];
  with_gone?: boolean;
  without?: boolean;
  work?: string;
  workspace: string;
}

export interface Sending {
  apart: Reference[];
  job?: UnderWay;
}

export interface SetScope {
  add?: string[];
  remove?: string[];
  work?: string;
  workspace: string;
}

export interface Settings {
  auto_update: boolean;
  workspace: string;
}

export interface Settle {
  path: string;
  use: string;
  workspace: string;
}

export interface Settled {
  beside?: string;
  path: string;
  put_away?: PutAway;
  superseded: boolean;
  theirs: Asset;
  use: string;
}

export interface SignIn {
  every?: number;
  handle: string;
  new?: boolean;
  passphrase: string;
  plain_http?: boolean;
  secret?: string;
  service: string;
}

export interface SignInAt {
  plain_http?: boolean;
  service: string;
}

export interface Standing {
  assets: Asset[];
  at: number;
  auto_update: boolean;
  branch: string;
  code: number;
  fetched: string;
  folder: string;
  follows?: number;
  ignored?: LeftOut[];
  kits_behind?: KitUse[];
  known: boolean;
  left_out: number;
  newest: number;
  odd: Refusal[];
  online: boolean;
  pinned?: boolean;
  project: string;
  rules?: string;
  same: number;
  scope: string[];
  sending?: UnderWay[];
  service: string;
  trouble?: string;
  uncovered: Asset[];
  workspace: string;
}

export interface Start {
  folder: string;
  note?: string;
  presets?: string[];
  project: string;
  work?: string;
}

export interface Started {
  handoff?: Handoff;
  workspace: string;
}

export interface Stretch {
  same?: boolean;
  size: number;
}

export interface Strip {
  after: number;
  before: number;
  changed: number;
  parts: Stretch[];
}

export interface Switch {
  branch: string;
  work?: string;
  workspace: string;
}

export interface Table {
  cells: string[][];
  columns: number;
  heads: string[];
  rows: number;
}

export interface TakeLocks {
  any?: boolean;
  bring?: boolean;
  diverge?: boolean;
  note?: string;
  paths?: string[];
  reserve?: boolean;
  set?: boolean;
  wait?: boolean;
  workspace: string;
}

export interface TaskLink {
  link: string;
  match: string;
}

export interface UnderWay {
  id: string;
  note: string;
  paths: string[];
  percent: number;
  refusals?: Refusal[];
  since: string;
  size: number;
  stage?: string;
  tasks: string[];
  trouble?: string;
}

export interface Unlock {
  edits?: string;
  paths?: string[];
  workspace: string;
}

export interface Unlocked {
  left: string[];
  next?: Record<string, string>;
  unlocked: string[];
}

export interface Update {
  newest?: boolean;
  paths?: string[];
  preview?: boolean;
  to?: number;
  work?: string;
  workspace: string;
}

export interface Updated {
  at: number;
  brought: Asset[];
  clashes: Asset[];
  follows?: number;
  moved: Asset[];
  pinned?: boolean;
  refusals: Refusal[];
  removed: Asset[];
  same: number;
}

export interface Version {
  at: string;
  author: string;
  branch: string;
  content?: string;
  digest?: string;
  executable?: boolean;
  gone?: boolean;
  handoff: number;
  note: string;
  parents: number[];
  path: string;
  size: number;
  stage?: string;
  tasks: string[];
  version: number;
}

export interface Waiter {
  handle: string;
  note?: string;
  offered_until?: string;
  since: string;
  workspace: string;
  workspace_id: string;
}

export interface Waiting {
  holder: string;
  path: string;
  place: number;
}

export interface Workspaces {
  workspaces: Standing[];
}

export interface WouldStart {
  folder: string;
  presets?: string[];
}

export type Nothing = Record<string, never>;

export interface Methods {
  about: { takes: Nothing; answers: About };
  invited: { takes: InvitationLink; answers: Invited };
  sign_in: { takes: SignIn; answers: About };
  sign_in_elsewhere: { takes: SignInAt; answers: Elsewhere };
  sign_out: { takes: Nothing; answers: About };
  projects: { takes: Nothing; answers: Projects };
  folders: { takes: InFolder; answers: Folders };
  join: { takes: Join; answers: Joined };
  would_start: { takes: WouldStart; answers: Preview };
  start: { takes: Start; answers: Started };
  workspaces: { takes: Nothing; answers: Workspaces };
  status: { takes: Of; answers: Standing };
  follow: { takes: Follow; answers: Standing };
  unfollow: { takes: Follow; answers: Nothing };
  settings: { takes: Settings; answers: Settings };
  begin: { takes: Begin; answers: Begun };
  lock: { takes: TakeLocks; answers: Locked };
  unlock: { takes: Unlock; answers: Unlocked };
  ask: { takes: AskToLetGo; answers: Waiting };
  answer: { takes: AnswerAsk; answers: Nothing };
  open: { takes: Open; answers: Nothing };
  send: { takes: Send; answers: Sending };
  cancel_sends: { takes: In; answers: Canceled };
  update: { takes: Update; answers: Updated };
  discard: { takes: Of; answers: Discarded };
  put_away: { takes: In; answers: Kept };
  restore: { takes: Restore; answers: Restored };
  settle: { takes: Settle; answers: Settled };
  left_out: { takes: Of; answers: LeftOutList };
  include: { takes: Include; answers: Included };
  compare: { takes: One; answers: Compared };
  history: { takes: One; answers: AssetHistory };
  scope: { takes: In; answers: Scope };
  set_scope: { takes: SetScope; answers: Updated };
  switch: { takes: Switch; answers: Updated };
}
