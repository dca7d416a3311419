import { plural } from "../../parts/words";
import { Link } from "react-router";
import { branchPath, type Branch } from "./useBranches";

const height = 340;
const step = 150;
const longest = 17;

/**
 * Waters is how the branches left and met: the first branch is the water that runs down the middle into the tarn, the newest at the bottom; each
 * of the others is a stream that leaves it where it began, and comes back where it came in.
 */
export function Waters({
  project,
  branches,
  meetings,
  newest,
}: {
  project: string;
  branches: Branch[];
  meetings: Map<string, number>;
  newest: number;
}) {
  const others = branches.filter((b) => b.from);
  // What was before the first branch left is told by a short piece.
  const first = Math.max(0, Math.min(newest, ...others.map((b) => b.at ?? 0)) - 2);
  const y = (handoff: number) => 14 + ((height - 44) * (handoff - first)) / Math.max(newest - first, 1);
  const side = new Map(others.map((b, i) => [b.name, (i % 2 ? -1 : 1) * (1 + Math.floor(i / 2))]));
  const x = (name: string) => (side.get(name) ?? 0) * step;
  const widest = Math.max(1, ...[...side.values()].map(Math.abs));
  const half = widest * step + 130;
  return (
    <svg
      viewBox={`${-half} 0 ${2 * half} ${height + 16}`}
      className="mb-6 h-auto max-h-96 w-full"
      role="group"
      aria-label={`How ${plural(others.length, "branch", "branches")} left ${branches[0]?.name} and came back`}
    >
      <path
        d={`M -4 4 C -7 ${height / 2}, -10 ${height - 60}, -16 ${height - 18} L 16 ${height - 18} C 10 ${height - 60}, 7 ${height / 2}, 4 4 Z`}
        className="fill-ice-wash stroke-ice"
        strokeWidth={1}
      />
      <ellipse cx={0} cy={height - 10} rx={Math.min(half - 20, 190)} ry={13} className="fill-ice-wash stroke-ice" strokeWidth={1} />
      <text x={0} y={height - 6} textAnchor="middle" className="fill-ink text-sm">
        {branches[0]?.name}, h{branches[0]?.head}
      </text>
      {others.map((b) => {
        const from = x(b.from ?? "");
        const to = x(b.name);
        const y0 = y(b.at ?? 0);
        const came = meetings.get(b.name);
        const y1 = Math.max(came ? y(came) : y(b.head), y0 + 50);
        const bend = Math.min(26, (y1 - y0) / 2);
        const away = `M ${from} ${y0} C ${from} ${y0 + bend}, ${to} ${y0}, ${to} ${y0 + bend}`;
        const back = came ? `L ${to} ${y1 - bend} C ${to} ${y1}, 0 ${y1 - bend}, 0 ${y1}` : `L ${to} ${y1}`;
        const wide = 2 + Math.min(6, Math.sqrt(b.ahead + (came ? 2 : 0)) * 1.6);
        return (
          <g key={b.name} className={b.state === "closed" ? "opacity-55" : ""}>
            <path
              d={`${away} ${back}`}
              className={`fill-none ${b.state === "closed" ? "stroke-peat" : "stroke-ice"}`}
              strokeWidth={wide}
              strokeLinecap="round"
              strokeDasharray={b.state === "closed" ? "5 6" : undefined}
            />
            <Link to={branchPath(project, b.name)}>
              <text x={to + (to < 0 ? -9 : 9)} y={y0 + bend + 12} textAnchor={to < 0 ? "end" : "start"} className="fill-ink text-sm">
                {b.name.length > longest ? `${b.name.slice(0, longest)}…` : b.name}
                <title>{b.name}</title>
              </text>
              <text x={to + (to < 0 ? -9 : 9)} y={y0 + bend + 28} textAnchor={to < 0 ? "end" : "start"} className="fill-peat text-xs">
                {came ? `came in at h${came}` : b.state}
              </text>
            </Link>
          </g>
        );
      })}
    </svg>
  );
}
