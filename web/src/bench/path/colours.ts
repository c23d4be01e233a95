/** Colours by which removals are told apart, on the list and on the picture. */
export const colours = {
  moss: '#9cc08f',
  sky: '#8db4d9',
  rose: '#dd9fae',
  sand: '#dcc48c',
  plum: '#bda0dc',
  sea: '#84c9bf',
}

export type Colour = keyof typeof colours
