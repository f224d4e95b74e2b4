/** Where it is kept which page somebody wanted who is away at the provider to sign in. */
export const CAME_FOR = "maestoso.came-for";
