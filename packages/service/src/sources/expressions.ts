import { ExpressionFailed, ExpressionProcesses } from '../gateways/expression-processes.ts'
import { SourceFault } from './fault.ts'

export { ExpressionsBusy } from '../gateways/expression-processes.ts'

/** JSONata over what strangers sent to sources. */
export class Expressions {
  readonly #processes = new ExpressionProcesses({
    processes: 1,
    mostWaiting: 20,
    mostCharacters: 8_388_608,
    restMs: 0,
  })

  /**
   * @param input JSON
   * @param lane the source
   * @throws {SourceFault} in words that go on from the expression’s name
   * @throws {ExpressionsBusy}
   */
  async evaluate(expression: string, input: string, lane: number): Promise<unknown> {
    try {
      const [text] = await this.#processes.evaluate(String(lane), [expression], input)
      return JSON.parse(text ?? 'null') as unknown
    } catch (error) {
      throw error instanceof ExpressionFailed ? new SourceFault(error.message) : error
    }
  }

  close(): void {
    this.#processes.close()
  }
}
