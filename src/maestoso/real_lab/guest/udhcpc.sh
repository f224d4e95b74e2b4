#!/bin/sh
case $1 in
  deconfig) ip addr flush dev $interface ;;
  bound | renew)
    ip addr flush dev $interface; ip addr add $ip/$mask dev $interface
    [ -n "$router" ] && ip route replace default via $router
    [ -n "$dns" ] && echo "nameserver $dns" >/etc/resolv.conf ;;
esac
