/** Radix primitives and plain elements, dressed once. Targets are at least 44 px. */
import { Collapsible } from "radix-ui";
import type { ButtonHTMLAttributes, InputHTMLAttributes, ReactNode } from "react";
import { useId } from "react";
import type { Refusal } from "../api/client";

const BASE = "min-h-11 rounded-[4px] transition-colors";
const LOOKS = {
  main: "held:sticky held:bottom-2 held:z-10 px-3 bg-ink text-paper font-semibold text-lg text-center w-full",
  plain: "px-3 py-1 border border-hairline bg-paper hover:border-ink text-center",
  chosen: "px-3 border border-ink bg-ink text-paper text-center font-semibold",
  quiet: "min-w-11 text-left text-graphite underline underline-offset-4 hover:text-ink",
};

export function Button({
  look = "plain",
  keyHint,
  className = "",
  children,
  ...rest
}: ButtonHTMLAttributes<HTMLButtonElement> & { look?: keyof typeof LOOKS; keyHint?: string }) {
  return (
    <button type="button" className={`${BASE} ${LOOKS[look]} ${className}`} {...rest}>
      {children}
      {keyHint && (
        <kbd className="ml-3 rounded-[3px] border border-current px-1.5 py-0.5 font-mono text-xs font-normal">
          {keyHint}
        </kbd>
      )}
    </button>
  );
}

export function Field({
  label,
  unit,
  wrong,
  className = "",
  ...rest
}: InputHTMLAttributes<HTMLInputElement> & { label: string; unit?: string; wrong?: string | null }) {
  const id = useId();
  return (
    <div className={className}>
      <label htmlFor={id} className="block text-sm text-graphite">
        {label}
      </label>
      <div className="flex items-center gap-2">
        <input
          id={id}
          className="min-h-11 w-full min-w-0 rounded-[4px] border border-graphite bg-paper px-3 font-mono"
          aria-invalid={wrong ? true : undefined}
          aria-describedby={wrong ? `${id}-wrong` : undefined}
          autoComplete="off"
          {...rest}
        />
        {unit && <span className="text-graphite">{unit}</span>}
      </div>
      {wrong && (
        <p id={`${id}-wrong`} role="alert" className="mt-1 text-sm text-madder">
          {wrong}
        </p>
      )}
    </div>
  );
}

export function Choice<T extends string>({
  label,
  value,
  options,
  onChange,
}: {
  label: string;
  value: T;
  options: readonly { value: T; text: string }[];
  onChange: (value: T) => void;
}) {
  const id = useId();
  return (
    <div>
      <label htmlFor={id} className="block text-sm text-graphite">
        {label}
      </label>
      <select
        id={id}
        value={value}
        onChange={(e) => onChange(e.target.value as T)}
        className="min-h-11 w-full rounded-[4px] border border-graphite bg-paper px-2"
      >
        {options.map((o) => (
          <option key={o.value} value={o.value}>
            {o.text}
          </option>
        ))}
      </select>
    </div>
  );
}

/** A refusal in its own sentence. */
export function Wrong({ wrong }: { wrong: Refusal | null | undefined }) {
  if (!wrong) return null;
  return (
    <p role="alert" className="border-l-2 border-madder pl-3 text-sm text-madder">
      {wrong.problem.message}
    </p>
  );
}

/** The reason behind an advice, folded away until it is asked for. */
export function Why({ lines, label = "why" }: { lines: readonly string[]; label?: string }) {
  return (
    <Collapsible.Root>
      <Collapsible.Trigger className="min-h-11 font-semibold text-graphite underline underline-offset-4">
        {label}
      </Collapsible.Trigger>
      <Collapsible.Content className="pb-2 text-sm text-graphite">
        {lines.map((line) => (
          <p key={line}>{line}</p>
        ))}
      </Collapsible.Content>
    </Collapsible.Root>
  );
}

export function Panel({
  tone = "verdigris",
  children,
}: {
  tone?: "verdigris" | "brass" | "madder";
  children: ReactNode;
}) {
  const tones = {
    verdigris: "border-verdigris bg-verdigris/10",
    brass: "border-brass bg-brass/10",
    madder: "border-madder bg-madder/10",
  };
  return <div className={`rounded-[4px] border px-3 py-2 ${tones[tone]}`}>{children}</div>;
}

/** Where one is, above a heading, and how far. */
export function Eyebrow({ left, right }: { left: string; right: string }) {
  return (
    <p className="flex items-baseline justify-between gap-3 text-graphite">
      <span className="text-lg leading-tight font-semibold text-ink first-letter:uppercase">{left}</span>
      <span className="text-right font-mono text-sm">{right}</span>
    </p>
  );
}

/** A file from this device, chosen by a button like the others. */
export function FileField({
  label,
  accept,
  onFile,
}: {
  label: string;
  accept: string;
  onFile: (file: File | undefined) => void;
}) {
  const id = useId();
  return (
    <div className="relative">
      <input
        id={id}
        type="file"
        accept={accept}
        className="peer sr-only"
        onChange={(e) => {
          onFile(e.target.files?.[0]);
          // The same file, mended, can be chosen again.
          e.target.value = "";
        }}
      />
      <label
        htmlFor={id}
        className="flex min-h-11 cursor-pointer items-center justify-center rounded-[4px] border border-hairline bg-paper px-3 py-1 text-center hover:border-ink peer-focus-visible:outline-2 peer-focus-visible:outline-offset-2 peer-focus-visible:outline-brass"
      >
        {label}
      </label>
    </div>
  );
}

export type Way = "closer" | "further";

/** Which way the tip goes. */
export function WayChoice({ value, onChange }: { value: Way; onChange: (way: Way) => void }) {
  return (
    <Choice
      label="Which way"
      value={value}
      onChange={onChange}
      options={[
        { value: "closer", text: "closer" },
        { value: "further", text: "further" },
      ]}
    />
  );
}
