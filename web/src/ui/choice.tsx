import { Listbox, ListboxButton, ListboxOption, ListboxOptions, Radio, RadioGroup } from '@headlessui/react'

export interface Option<T> {
  value: T
  label: string
  hint?: string
}

/** One of a few, all in sight. */
export function Pick<T extends string>({
  label,
  options,
  value,
  onChange,
}: {
  label: string
  options: Option<T>[]
  value: T
  onChange: (v: T) => void
}) {
  return (
    <RadioGroup
      value={value}
      onChange={onChange}
      aria-label={label}
      className="inline-flex rounded border border-stone bg-soil p-0.5"
    >
      {options.map((o) => (
        <Radio
          key={o.value}
          value={o.value}
          title={o.hint}
          className="cursor-pointer rounded-sm px-2 py-0.5 leading-5 text-quiet data-checked:bg-stone data-checked:text-text data-focus:outline-2 data-focus:outline-fern"
        >
          {o.label}
        </Radio>
      ))}
    </RadioGroup>
  )
}

/** One of several, unfolded when wanted. */
export function Select<T extends string>({
  label,
  options,
  value,
  onChange,
}: {
  label: string
  options: Option<T>[]
  value: T
  onChange: (v: T) => void
}) {
  return (
    <Listbox value={value} onChange={onChange}>
      <ListboxButton
        aria-label={`${label}: ${options.find((o) => o.value === value)?.label ?? ''}`}
        title={label}
        className="flex items-center justify-between gap-3 rounded border border-stone bg-soil px-2 py-1 text-left leading-5"
      >
        {options.find((o) => o.value === value)?.label}
        <svg aria-hidden viewBox="0 0 10 6" className="h-1.5 w-2.5 text-quiet">
          <path d="M1 1l4 4 4-4" fill="none" stroke="currentColor" strokeWidth="1.5" />
        </svg>
      </ListboxButton>
      <ListboxOptions
        anchor={{ to: 'bottom start', gap: 4 }}
        className="z-40 rounded border border-stone bg-bed p-1 shadow-lg shadow-black/50 focus:outline-none"
      >
        {options.map((o) => (
          <ListboxOption
            key={o.value}
            value={o.value}
            className="cursor-pointer rounded-sm px-3 py-1 data-focus:bg-stone data-selected:text-fern"
          >
            {o.label}
            {o.hint && <span className="block text-[13px] text-quiet">{o.hint}</span>}
          </ListboxOption>
        ))}
      </ListboxOptions>
    </Listbox>
  )
}
