export function Heading({ children }: { children: React.ReactNode }) {
  return <h2 className="border-b border-rule pb-1 font-semibold">{children}</h2>
}
