/** command writes a command of the client as a POSIX shell takes it: each word stays one, whatever it holds. */
export const command = (...words: (string | false | undefined)[]) =>
  ['freshseal', ...words.filter((w): w is string => typeof w === 'string')].map(quoted).join(' ')

/** option is a flag with its value; nothing where the value is empty. */
export const option = (flag: string, value: string | undefined): string[] => (value ? [`--${flag}`, value] : [])

function quoted(word: string) {
  return /^[\w@%+=:,./-]+$/.test(word) ? word : `'${word.replaceAll("'", "'\\''")}'`
}
