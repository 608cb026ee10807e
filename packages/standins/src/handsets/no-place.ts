/** Handsets of this app do not know where the service is, or as whom to register there. */
export class NoPlace extends Error {
  override readonly name = 'NoPlace'
}
