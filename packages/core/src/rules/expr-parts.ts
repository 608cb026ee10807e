import type { Expr } from '@bufbuild/cel-spec/cel/expr/syntax_pb.js'

export const rootOf = ({ exprKind }: Expr): string | undefined =>
  exprKind.case === 'identExpr' ? exprKind.value.name : undefined

export const textOf = ({ exprKind }: Expr): string | undefined =>
  exprKind.case === 'constExpr' && exprKind.value.constantKind.case === 'stringValue'
    ? exprKind.value.constantKind.value
    : undefined

/** One step of a way through data: `.price` or `["price"]`. */
export function stepOf({ exprKind }: Expr): { readonly operand: Expr; readonly field: string } | undefined {
  if (exprKind.case === 'selectExpr' && exprKind.value.operand)
    return { operand: exprKind.value.operand, field: exprKind.value.field }
  if (exprKind.case !== 'callExpr' || exprKind.value.function !== '_[_]') return undefined
  const [operand, name] = exprKind.value.args
  const field = name && textOf(name)
  return operand && field !== undefined ? { operand, field } : undefined
}
