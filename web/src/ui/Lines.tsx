/** What a machine is sent; where nobody has taught it the lines, that it is done on its own screen. */
export function Lines({ lines, className = "" }: { lines: readonly string[]; className?: string }) {
  return lines.length ? (
    <pre className={`font-mono text-sm whitespace-pre-wrap ${className}`}>{lines.join("\n")}</pre>
  ) : (
    <p className={`text-sm ${className}`}>On the machine's own screen: nobody has taught the lines for it.</p>
  );
}
