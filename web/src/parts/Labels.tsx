/** Labels are the task ids and the stage of a handoff. */
export function Labels({ handoff }: { handoff: { tasks: string[]; stage?: string } }) {
  return (
    <span className="text-xs">
      {handoff.tasks.map((t) => (
        <span key={t} className="mr-1.5 border-b border-line text-peat">{t}</span>
      ))}
      {handoff.stage && <span className="rounded-md bg-stone px-1.5 py-0.5 text-ink">{handoff.stage}</span>}
    </span>
  );
}
