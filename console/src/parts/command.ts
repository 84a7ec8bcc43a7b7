/** command writes a command of the client as a POSIX shell takes it: each word stays one, whatever it holds. */
export const command = (...words: (string | false | undefined)[]) =>
  ['freshseal', ...words.filter((w): w is string => typeof w === 'string')].map(quoted).join(' ')

/** option is a flag with its value; nothing where the value is empty. */
export const option = (flag: string, value: string | undefined): string[] => (value ? [`--${flag}`, value] : [])

/** options is a flag that is given once for each value. */
export const options = (flag: string, values: readonly string[]): string[] =>
  values.flatMap((value) => [`--${flag}`, value])

/** flags are those that stand for themselves, of a list of whether each is set. */
export const flags = (all: Record<string, boolean>): string[] =>
  Object.entries(all)
    .filter(([, set]) => set)
    .map(([flag]) => `--${flag}`)

function quoted(word: string) {
  return /^[\w@%+=:,./-]+$/.test(word) ? word : `'${word.replaceAll("'", "'\\''")}'`
}
