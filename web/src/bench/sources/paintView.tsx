import { newPaint } from './paint'
import type { View } from './views'

export const paintView: View = {
  add: [
    {
      words: 'Travelling paint',
      hint: 'Strokes are painted on every frame from its own pixels',
      label: 'New travelling paint',
      make: newPaint,
      then: { tool: 'brush', view: 'patch' },
    },
  ],
}
