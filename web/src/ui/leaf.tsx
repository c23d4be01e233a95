export function Leaf({ className }: { className?: string }) {
  return (
    <svg aria-hidden viewBox="0 0 32 32" className={className}>
      <path d="M6 26C4 12 14 5 27 5c0 13-7 22-19 20" fill="#7fae74" />
      <path d="M5 29C9 20 14 14 21 10" fill="none" stroke="#23331f" strokeWidth="2" strokeLinecap="round" />
    </svg>
  )
}
