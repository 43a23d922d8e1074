/** Letters that are no other letter with a mark. */
const plain: Record<string, string> = { æ: 'ae', œ: 'oe', ø: 'o', ß: 'ss', ł: 'l', đ: 'd', ð: 'd', þ: 'th', ı: 'i' }

/** Makes an id of a name: its letters, without their marks, and digits, with one hyphen between words. */
export const idOf = (name: string) =>
  name
    .toLowerCase()
    .normalize('NFD')
    .replace(/\p{M}/gu, '')
    .replace(/[æœøßłđðþı]/g, (c) => plain[c])
    .replace(/[^a-z0-9]+/g, '-')
    .replace(/^-|-$/g, '')
