/** A metric as it arrived. */
export interface TapMetric {
  name: string;
  data_type?: string | null;
  value: unknown;
  unit?: string | null;
  timestamp?: number | null;
  historical: boolean;
  quality?: number | null;
}

/** A message as it arrived. */
export interface TapMessage {
  at: number;
  topic: string;
  type: string;
  seq?: number | null;
  bytes: number;
  error?: string | null;
  metrics: TapMetric[];
  text?: string | null;
  retained: boolean;
}

/** What arrived on a topic. */
export interface TopicFacts {
  last: TapMessage;
  count: number;
  bytes: number;
  /** When its first message arrived. */
  since: number;
  /** The last of each metric, and when it arrived: a message has those only that changed. */
  metrics: ReadonlyMap<string, { at: number; metric: TapMetric }>;
}

/** More topics than anybody looks through are not remembered. */
const MOST_TOPICS = 2000;

export function withMessage(known: ReadonlyMap<string, TopicFacts>, message: TapMessage): Map<string, TopicFacts> {
  const next = new Map(known);
  const before = next.get(message.topic);
  if (!before && next.size >= MOST_TOPICS) return next;
  const metrics = new Map(before?.metrics);
  for (const metric of message.metrics) metrics.set(metric.name, { at: message.at, metric });
  next.set(message.topic, {
    last: message,
    count: (before?.count ?? 0) + 1,
    bytes: (before?.bytes ?? 0) + message.bytes,
    since: before?.since ?? message.at,
    metrics,
  });
  return next;
}

/** A line of the tree of topics: a level that several topics share, or a topic. */
export interface TopicRow {
  /** What stands in the line: one level, or several that nothing branches off from. */
  label: string;
  depth: number;
  /** The topic itself, where messages arrive on just this one. */
  topic: string | null;
  /** The path down to this line. */
  path: string;
}

interface Node {
  children: Map<string, Node>;
  isTopic: boolean;
}

export function rowsOf(topics: Iterable<string>): TopicRow[] {
  const root: Node = { children: new Map(), isTopic: false };
  for (const topic of topics) {
    let node = root;
    for (const level of topic.split("/")) {
      let child = node.children.get(level);
      if (!child) node.children.set(level, (child = { children: new Map(), isTopic: false }));
      node = child;
    }
    node.isTopic = true;
  }
  const rows: TopicRow[] = [];
  const walk = (node: Node, depth: number, above: string) => {
    for (const [level, first] of [...node.children].sort(([left], [right]) => left.localeCompare(right))) {
      let [label, child, path] = [level, first, above === "" ? level : `${above}/${level}`];
      // Levels with one way on stand in one line.
      while (!child.isTopic && child.children.size === 1) {
        const [[name, only]] = [...child.children] as [[string, Node]];
        [label, child, path] = [`${label}/${name}`, only, `${path}/${name}`];
      }
      rows.push({ label, depth, topic: child.isTopic ? path : null, path });
      walk(child, depth + 1, path);
    }
  };
  walk(root, 0, "");
  return rows;
}
