/** Which plate of a machine a page is about; nothing where it has one only. */
export function PlatePick({
  plates,
  value,
  onChange,
}: {
  plates: readonly (readonly [string, string])[];
  value: string;
  onChange: (plate: string) => void;
}) {
  if (plates.length < 2) return null;
  return (
    <label className="ml-auto flex items-center gap-2 text-sm text-graphite">
      Plate
      <select
        className="min-h-11 rounded-[4px] border border-graphite bg-paper px-2 text-ink"
        value={value}
        onChange={(e) => onChange(e.target.value)}
      >
        {plates.map(([id, name]) => (
          <option key={id} value={id}>
            {name}
          </option>
        ))}
      </select>
    </label>
  );
}
