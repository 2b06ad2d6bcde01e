/** The mark that changing requests must carry (against forged requests). */
let mark = "";

export const setCsrf = (given: string): void => {
  mark = given;
};
export const getCsrf = (): string => mark;
