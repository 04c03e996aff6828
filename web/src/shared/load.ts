/** Mail-load cells by their numbers, in the order that the API counts them. */
const MAIL = ["sparse", "usual", "dense"];
const ANSWER = ["new", "rising", "steady", "slackening", "silent"];

export const CELLS = Array.from({ length: 15 }, (_, cell) => cell);
export const cellWords = (cell: number) => `${MAIL[Math.floor(cell / 5)]} mail, ${ANSWER[cell % 5]}`;
